//! Matroska as some encoders send it: a segment and clusters without a length, a block for each
//! picture, and sounds laced in pairs.

use bytes::Bytes;
use waverant_media::{CodecParameters, Packet, Track, TrackId, TrackKind, Tracks};

/// "Until the end", in one byte.
const NO_LENGTH: u8 = 0xff;

/// A cluster is not longer than this, so that offsets fit their two bytes.
const CLUSTER_MS: i64 = 2_000;

/// Xiph lacing, and keyframe.
const LACED: u8 = 0x82;
const KEYFRAME: u8 = 0x80;

#[derive(Debug)]
pub(super) struct LiveMatroska {
    tracks: Vec<TrackId>,
    cluster_ms: Option<i64>,
    /// A sound of each track that waits for the next.
    waiting: Vec<Option<(i64, Bytes)>>,
}

impl LiveMatroska {
    /// Begins a document; its head is added to `out`.
    pub(super) fn begin(tracks: &Tracks, out: &mut Vec<u8>) -> anyhow::Result<Self> {
        let mut document = Vec::new();
        element(&[0x42, 0x82], b"matroska", &mut document);
        element(&[0x1a, 0x45, 0xdf, 0xa3], &document, out);
        out.extend([0x18, 0x53, 0x80, 0x67, NO_LENGTH]);
        let mut info = Vec::new();
        element(&[0x2a, 0xd7, 0xb1], &1_000_000_u32.to_be_bytes(), &mut info);
        element(&[0x15, 0x49, 0xa9, 0x66], &info, out);
        let mut entries = Vec::new();
        for (number, track) in (1..).zip(tracks.iter()) {
            element(&[0xae], &entry(number, track)?, &mut entries);
        }
        element(&[0x16, 0x54, 0xae, 0x6b], &entries, out);
        let tracks: Vec<TrackId> = tracks.iter().map(|track| track.id).collect();
        Ok(Self { waiting: vec![None; tracks.len()], tracks, cluster_ms: None })
    }

    pub(super) fn write(&mut self, packet: &Packet, out: &mut Vec<u8>) {
        let Some(place) = self.tracks.iter().position(|id| *id == packet.track) else { return };
        let (at_ms, is_picture) = (packet.pts.millis(), packet.kind == TrackKind::Video);
        let is_stale = self.cluster_ms.is_none_or(|begin| (at_ms - begin).abs() > CLUSTER_MS);
        if is_stale || is_picture && packet.random_access {
            self.finish(out);
            out.extend([0x1f, 0x43, 0xb6, 0x75, NO_LENGTH]);
            element(&[0xe7], &at_ms.to_be_bytes(), out);
            self.cluster_ms = Some(at_ms);
        }
        if is_picture {
            let flags = if packet.random_access { KEYFRAME } else { 0 };
            return self.write_block(place, at_ms, flags, &[&packet.payload], out);
        }
        match self.waiting[place].take() {
            None => self.waiting[place] = Some((at_ms, packet.payload.clone())),
            Some((first_ms, first)) => self.write_block(place, first_ms, LACED, &[&first, &packet.payload], out),
        }
    }

    /// Writes the sounds that wait for another.
    pub(super) fn finish(&mut self, out: &mut Vec<u8>) {
        for place in 0..self.waiting.len() {
            if let Some((at_ms, sound)) = self.waiting[place].take() {
                self.write_block(place, at_ms, KEYFRAME, &[&sound], out);
            }
        }
    }

    fn write_block(&self, place: usize, at_ms: i64, flags: u8, frames: &[&Bytes], out: &mut Vec<u8>) {
        let number = u8::try_from(place + 1).unwrap_or_default();
        let offset = i16::try_from(at_ms - self.cluster_ms.unwrap_or_default()).unwrap_or_default();
        let mut block = vec![0x80 | number];
        block.extend(offset.to_be_bytes());
        block.push(flags);
        if let [first, _] = frames {
            // One more frame than is counted; the length of the first as a sum of bytes.
            block.push(1);
            block.extend(std::iter::repeat_n(255, first.len() / 255));
            block.push(u8::try_from(first.len() % 255).unwrap_or_default());
        }
        frames.iter().for_each(|frame| block.extend_from_slice(frame));
        element(&[0xa3], &block, out);
    }
}

fn entry(number: u8, track: &Track) -> anyhow::Result<Vec<u8>> {
    let mut entry = Vec::new();
    element(&[0xd7], &[number], &mut entry);
    let (kind, codec) = match &track.codec {
        CodecParameters::H264(_) => (1, "V_MPEG4/ISO/AVC"),
        CodecParameters::Hevc(_) => (1, "V_MPEGH/ISO/HEVC"),
        CodecParameters::Aac(_) => (2, "A_AAC"),
        CodecParameters::Opus(_) => (2, "A_OPUS"),
        codec => anyhow::bail!("{} is not sent in Matroska by this stand-in", codec.name()),
    };
    element(&[0x83], &[kind], &mut entry);
    element(&[0x86], codec.as_bytes(), &mut entry);
    element(&[0x63, 0xa2], track.codec.decoder_config().map(|raw| &raw[..]).unwrap_or_default(), &mut entry);
    if let Some(language) = &track.language {
        element(&[0x22, 0xb5, 0x9d], language.as_bytes(), &mut entry);
    }
    if let Some(name) = &track.name {
        element(&[0x53, 0x6e], name.as_bytes(), &mut entry);
    }
    Ok(entry)
}

/// An element with its length in four bytes.
fn element(id: &[u8], content: &[u8], out: &mut Vec<u8>) {
    let length = u32::try_from(content.len()).unwrap_or(u32::MAX).min((1 << 28) - 2);
    out.extend_from_slice(id);
    out.extend((length | 1 << 28).to_be_bytes());
    out.extend_from_slice(content);
}
