use std::sync::Arc;

use bytes::Bytes;
use waverant_media::{AudioSpecificConfig, CodecParameters, MediaTime, Packet, Track, TrackId, TrackKind, Tracks};

use crate::Entry;

/// An AudioSpecificConfig: AAC-LC, 48 kHz, stereo.
///
/// Source: ISO/IEC 14496-3, 1.6.2.1
const CONFIG: &[u8] = &[0x11, 0x90];

/// Samples of a frame, in ticks of media time: 1024 at 48 kHz.
const FRAME: i64 = 1920;

/// Silence goes on behind a hole of this length, and does not fill it.
const HOLE: MediaTime = MediaTime::from_millis(1_000);

/// Adds a track of silence to a stream that has no sound, for a destination that demands some.
#[derive(Debug, Default)]
pub(super) struct SilentSound {
    /// The stream's tracks, and the same with a silent one.
    tracks: Option<(Arc<Tracks>, Arc<Tracks>)>,
    /// When the next frame begins.
    next: Option<MediaTime>,
    frame: Option<(CodecParameters, Bytes)>,
}

impl SilentSound {
    /// What is sent instead of `entry`: the entry, with the frames of silence up to its time around it.
    pub(super) fn add(&mut self, entry: &Entry) -> Vec<Entry> {
        let Some((codec, frame)) = self.made() else { return vec![entry.clone()] };
        let tracks = self.with_silence(&entry.tracks, codec);
        let mut entries = Vec::new();
        let own = Entry { tracks: tracks.clone(), ..entry.clone() };
        // Pictures lead: what comes between them is of their times.
        if entry.packet.kind == TrackKind::Video {
            let now = entry.packet.dts;
            let mut next = self.next.filter(|next| now - *next < HOLE).unwrap_or(now);
            while next <= now {
                let packet = Packet {
                    track: TrackId::AUDIO,
                    kind: TrackKind::Audio,
                    dts: next,
                    pts: next,
                    random_access: true,
                    payload: frame.clone(),
                };
                entries.push(Entry::new(packet, tracks.clone(), entry.origin));
                next = next + MediaTime::from_ticks(FRAME);
            }
            self.next = Some(next);
        }
        // Times do not run back; and silence of the same time follows a picture, since a peer begins with one.
        let before = entries.iter().take_while(|silence| silence.packet.dts < entry.packet.dts).count();
        entries.insert(before, own);
        entries
    }

    fn made(&mut self) -> Option<(CodecParameters, Bytes)> {
        if self.frame.is_none() {
            let codec = CodecParameters::Aac(AudioSpecificConfig::parse(Bytes::from_static(CONFIG)).ok()?);
            self.frame = codec.silent_frame().map(|frame| (codec, frame));
        }
        self.frame.clone()
    }

    fn with_silence(&mut self, tracks: &Arc<Tracks>, codec: CodecParameters) -> Arc<Tracks> {
        if let Some((known, with)) = self.tracks.as_ref().filter(|(known, _)| Arc::ptr_eq(known, tracks)) {
            let _ = known;
            return with.clone();
        }
        let mut with = Tracks::clone(tracks);
        with.set(Track::new(TrackId::AUDIO, codec));
        let with = Arc::new(with);
        self.tracks = Some((tracks.clone(), with.clone()));
        with
    }
}

#[cfg(test)]
mod tests {
    use waverant_media::testing::{h264, tracks};

    use super::*;
    use crate::Origin;

    fn picture(millis: i64, tracks: &Arc<Tracks>) -> Entry {
        let dts = MediaTime::from_millis(millis);
        let packet = Packet {
            track: TrackId::VIDEO,
            kind: TrackKind::Video,
            dts,
            pts: dts,
            random_access: true,
            payload: Bytes::from_static(b"picture"),
        };
        Entry::new(packet, tracks.clone(), Origin::Show)
    }

    #[test]
    fn silence_keeps_pace_with_the_pictures() {
        let tracks = Arc::new(tracks([(TrackId::VIDEO, h264())]));
        let mut silent = SilentSound::default();
        let mut times = Vec::new();
        for number in 0..=250 {
            let entries = silent.add(&picture(number * 40, &tracks));
            assert!(entries.iter().all(|entry| Arc::ptr_eq(&entry.tracks, &entries[0].tracks)));
            assert!(entries[0].tracks.has(TrackKind::Audio));
            assert!(entries.is_sorted_by_key(|entry| entry.packet.dts), "times do not run back");
            let sounds = entries.iter().filter(|entry| entry.packet.kind == TrackKind::Audio);
            times.extend(sounds.map(|entry| entry.packet.dts));
        }
        assert!(times.windows(2).all(|pair| (pair[1] - pair[0]).ticks() == FRAME), "no hole and nothing twice");
        // 10 s of 48 kHz, and the frame at the last picture.
        assert_eq!((times.len(), times[0]), (469, MediaTime::ZERO));
    }

    #[test]
    fn a_hole_is_not_filled() {
        let tracks = Arc::new(tracks([(TrackId::VIDEO, h264())]));
        let mut silent = SilentSound::default();
        silent.add(&picture(0, &tracks));
        let entries = silent.add(&picture(3_600_000, &tracks));
        let kinds: Vec<TrackKind> = entries.iter().map(|entry| entry.packet.kind).collect();
        assert_eq!(kinds, [TrackKind::Video, TrackKind::Audio], "a peer begins with a picture");
        assert_eq!(entries[1].packet.dts, MediaTime::from_millis(3_600_000));
    }
}
