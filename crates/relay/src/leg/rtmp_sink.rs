use std::sync::Arc;

use bytes::Bytes;
use waverant_container::{AAC_RAW_HEADER, AAC_SEQUENCE_HEADER, AVC_SEQUENCE_HEADER, avc_frame_header};
use waverant_media::{CodecParameters, MediaTime, TrackKind, Tracks};
use waverant_rtmp::{ClientConnection, Error, StreamMetadataBuilder, Timestamp};

use crate::Entry;

/// What we call ourselves in metadata.
const ENCODER_NAME: &str = concat!("Waverant ", env!("CARGO_PKG_VERSION"));

/// Distance between the last packet of one connection and the first of the next, where the
/// keyframe to begin with is older than what was sent before.
const SPLICE: MediaTime = MediaTime::from_millis(33);

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
    /// The latest time that the platform was given.
    latest: Option<MediaTime>,
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
        let time = self.platform_time(packet.dts);
        let timestamp = Timestamp::from_millis(time.millis());
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

impl RtmpSink {
    /// The platform's time for a session's time.
    fn platform_time(&mut self, dts: MediaTime) -> MediaTime {
        let mut origin = *self.origin.get_or_insert(dts);
        if self.tracks.is_none()
            && let Some(latest) = self.latest
            && dts - origin <= latest
        {
            // A new connection begins with the newest keyframe, which the last one may have sent
            // already: the platform's time goes on all the same.
            origin = dts - latest - SPLICE;
            self.origin = Some(origin);
        }
        // Sound may lie a little before the keyframe that began the timeline.
        let time = (dts - origin).max(MediaTime::ZERO);
        self.latest = Some(self.latest.map_or(time, |latest| latest.max(time)));
        time
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

#[cfg(test)]
#[expect(clippy::disallowed_methods, reason = "one start instant is taken, then only added to")]
mod tests {
    use std::time::Instant;

    use waverant_container::{VideoTag, parse_video_tag};
    use waverant_media::{AudioSpecificConfig, AvcDecoderConfig, Packet, Track, TrackId};
    use waverant_rtmp::{ClientConfig, ClientTarget, ServerConfig, ServerConnection, ServerEvent};

    use super::*;

    const AVC: &[u8] = &[
        1, 0x42, 0xc0, 0x1f, 0xff, 0xe1, 0, 10, 0x67, 0x42, 0xc0, 0x1f, 0xda, 0x01, 0x40, 0x16, 0xe8, 0x40, 1, 0, 4,
        0x68, 0xce, 0x3c, 0x80,
    ];

    fn tracks() -> Arc<Tracks> {
        let mut tracks = Tracks::new();
        let h264 = AvcDecoderConfig::parse(Bytes::from_static(AVC)).unwrap();
        tracks.set(Track { id: TrackId::VIDEO, codec: CodecParameters::H264(h264) });
        let aac = AudioSpecificConfig::parse(Bytes::from_static(&[0x11, 0x90])).unwrap();
        tracks.set(Track { id: TrackId::AUDIO, codec: CodecParameters::Aac(aac) });
        Arc::new(tracks)
    }

    fn entry(kind: TrackKind, millis: i64, keyframe: bool, tracks: &Arc<Tracks>) -> Entry {
        let track = if kind == TrackKind::Video { TrackId::VIDEO } else { TrackId::AUDIO };
        let dts = MediaTime::from_millis(millis);
        let random_access = keyframe || kind == TrackKind::Audio;
        let packet = Packet { track, kind, dts, pts: dts, random_access, payload: Bytes::from_static(b"payload") };
        Entry { packet, tracks: tracks.clone(), video_frames_before: 0 }
    }

    /// A platform that takes everything.
    struct Platform {
        client: ClientConnection,
        server: ServerConnection,
        now: Instant,
        /// Composition times of the pictures that came.
        composition_ms: Vec<i32>,
    }

    impl Platform {
        fn new() -> Self {
            let now = Instant::now();
            let target = ClientTarget { app: "in".into(), tc_url: "rtmp://a/in".into(), stream_name: "key".into() };
            let client = ClientConnection::new(ClientConfig::default(), target, now);
            let mut platform = Self {
                client,
                server: ServerConnection::new(ServerConfig::default(), now),
                now,
                composition_ms: Vec::new(),
            };
            platform.carry();
            assert!(platform.client.is_publishing());
            platform
        }

        /// Carries bytes until both rest; returns the first two bytes and the times of what came.
        fn carry(&mut self) -> Vec<(u8, u8, u32)> {
            let mut got = Vec::new();
            loop {
                let up: Vec<u8> = std::iter::from_fn(|| self.client.poll_transmit()).flatten().collect();
                self.server.handle_input(self.now, &up).unwrap();
                while let Some(event) = self.server.poll_event() {
                    match event {
                        ServerEvent::PublishRequested(_) => self.server.accept_publish(self.now).unwrap(),
                        ServerEvent::Media { timestamp, body, .. } => {
                            got.push((body[0], body[1], timestamp.0));
                            if let Ok(VideoTag::AvcFrame { composition_time_ms, .. }) = parse_video_tag(&body) {
                                self.composition_ms.push(composition_time_ms);
                            }
                        }
                        _ => {}
                    }
                }
                let down: Vec<u8> = std::iter::from_fn(|| self.server.poll_transmit()).flatten().collect();
                self.client.handle_input(self.now, &down).unwrap();
                if up.is_empty() && down.is_empty() {
                    return got;
                }
            }
        }
    }

    #[test]
    fn a_connection_gets_headers_then_a_keyframe_at_zero() {
        let (tracks, mut platform, mut sink) = (tracks(), Platform::new(), RtmpSink::new());
        sink.begin_connection();
        for (kind, millis, keyframe) in [
            (TrackKind::Audio, 4980, false),
            (TrackKind::Video, 4990, false),
            (TrackKind::Video, 5000, true),
            (TrackKind::Audio, 4995, false),
            (TrackKind::Video, 5033, false),
        ] {
            sink.send(&mut platform.client, &entry(kind, millis, keyframe, &tracks)).unwrap();
        }
        let expected = [(0x17, 0, 0), (0xaf, 0, 0), (0x17, 1, 0), (0xaf, 1, 0), (0x27, 1, 33)];
        assert_eq!(platform.carry(), expected);
    }

    #[test]
    fn timestamps_rise_across_connections_even_from_an_older_keyframe() {
        let (tracks, mut sink) = (tracks(), RtmpSink::new());
        let mut first = Platform::new();
        sink.begin_connection();
        for millis in [5000, 5500, 6000] {
            let keyframe = millis == 5000;
            sink.send(&mut first.client, &entry(TrackKind::Video, millis, keyframe, &tracks)).unwrap();
        }
        let mut second = Platform::new();
        sink.begin_connection();
        for millis in [5000, 5500] {
            let keyframe = millis == 5000;
            sink.send(&mut second.client, &entry(TrackKind::Video, millis, keyframe, &tracks)).unwrap();
        }
        assert_eq!(second.carry(), [(0x17, 0, 1033), (0xaf, 0, 1033), (0x17, 1, 1033), (0x27, 1, 1533)]);
    }

    #[test]
    fn reordered_pictures_keep_their_composition_time() {
        let (tracks, mut platform, mut sink) = (tracks(), Platform::new(), RtmpSink::new());
        sink.begin_connection();
        for (millis, composition) in [(0, 66), (33, 133), (66, 0), (99, 33)] {
            let mut entry = entry(TrackKind::Video, millis, millis == 0, &tracks);
            entry.packet.pts = entry.packet.dts + MediaTime::from_millis(composition);
            sink.send(&mut platform.client, &entry).unwrap();
        }
        platform.carry();
        assert_eq!(platform.composition_ms, [66, 133, 0, 33]);
    }

    #[test]
    fn changed_parameters_are_announced() {
        let (before, after) = (tracks(), tracks());
        let (mut platform, mut sink) = (Platform::new(), RtmpSink::new());
        sink.begin_connection();
        sink.send(&mut platform.client, &entry(TrackKind::Video, 0, true, &before)).unwrap();
        sink.send(&mut platform.client, &entry(TrackKind::Video, 33, true, &after)).unwrap();
        let headers = platform.carry().into_iter().filter(|(_, packet_type, _)| *packet_type == 0).count();
        assert_eq!(headers, 4);
    }
}
