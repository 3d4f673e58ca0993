use std::sync::Arc;

use bytes::Bytes;
use waverant_container::{AAC_RAW_HEADER, AAC_SEQUENCE_HEADER, AVC_SEQUENCE_HEADER, avc_frame_header};
use waverant_media::{CodecParameters, MediaTime, TrackKind, Tracks};
use waverant_rtmp::{ClientConnection, Error, StreamMetadataBuilder, Timestamp};

use crate::Entry;

/// What we call ourselves in metadata.
const ENCODER_NAME: &str = concat!("Waverant ", env!("CARGO_PKG_VERSION"));

/// What was sent by one call.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct SinkOutput {
    /// Payload bytes.
    pub payload_bytes: u64,
    /// Pictures.
    pub video_frame_count: u64,
}

/// Writes a session's packets into an RTMP client: headers first, then from a keyframe on.
///
/// One sink serves all connections of a leg, so that the timestamps that the platform sees begin
/// at 0 and keep rising across redials.
#[derive(Debug, Default)]
pub struct RtmpSink {
    /// The session's time that is the platform's time 0.
    origin: Option<MediaTime>,
    /// The tracks whose headers the current connection has.
    tracks: Option<Arc<Tracks>>,
    /// Nothing but headers may come before the first keyframe.
    awaiting_keyframe: bool,
}

impl RtmpSink {
    /// A sink that has sent nothing.
    pub fn new() -> Self {
        Self::default()
    }

    /// A new connection was made: it gets headers and a keyframe first.
    pub fn begin_connection(&mut self) {
        self.tracks = None;
        self.awaiting_keyframe = true;
    }

    /// Packets were missed: the next picture sent is a keyframe.
    pub fn skip_to_keyframe(&mut self) {
        self.awaiting_keyframe = true;
    }

    /// Sends a packet, after headers where they are due. Payloads are not copied.
    ///
    /// # Errors
    /// [`Error::Misuse`] if the client is not publishing.
    pub fn send(&mut self, client: &mut ClientConnection, entry: &Entry) -> Result<SinkOutput, Error> {
        let packet = &entry.packet;
        let has_video = entry.tracks.has(TrackKind::Video);
        if self.awaiting_keyframe && has_video && !packet.is_keyframe() {
            return Ok(SinkOutput::default());
        }
        self.awaiting_keyframe = false;
        let origin = *self.origin.get_or_insert(packet.dts);
        // Sound may lie a little before the keyframe that began the timeline.
        let timestamp = Timestamp::from_millis((packet.dts - origin).millis().max(0));
        if self.tracks.as_ref().is_none_or(|sent| !Arc::ptr_eq(sent, &entry.tracks)) {
            send_headers(client, timestamp, &entry.tracks)?;
            self.tracks = Some(entry.tracks.clone());
        }
        match packet.kind {
            TrackKind::Video => {
                let composition_ms = packet.pts.millis() - packet.dts.millis();
                let header = avc_frame_header(packet.random_access, composition_ms);
                client.send_video(timestamp, &header, &packet.payload)?;
            }
            TrackKind::Audio => client.send_audio(timestamp, &AAC_RAW_HEADER, &packet.payload)?,
        }
        let video_frame_count = u64::from(packet.kind == TrackKind::Video);
        Ok(SinkOutput { payload_bytes: packet.payload.len() as u64, video_frame_count })
    }
}

fn send_headers(client: &mut ClientConnection, timestamp: Timestamp, tracks: &Tracks) -> Result<(), Error> {
    let metadata = StreamMetadataBuilder::new(tracks, None, ENCODER_NAME).encode();
    client.send_metadata(timestamp, &metadata)?;
    for track in tracks.iter() {
        let raw: &Bytes = match &track.codec {
            CodecParameters::H264(config) => config.raw(),
            CodecParameters::Aac(config) => config.raw(),
            _ => continue,
        };
        match track.codec.kind() {
            TrackKind::Video => client.send_video(timestamp, &AVC_SEQUENCE_HEADER, raw)?,
            TrackKind::Audio => client.send_audio(timestamp, &AAC_SEQUENCE_HEADER, raw)?,
        }
    }
    Ok(())
}
