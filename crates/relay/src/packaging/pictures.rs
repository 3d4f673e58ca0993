use std::collections::BTreeMap;
use std::sync::Arc;

use bytes::Bytes;
use waverant_container::write_cmaf_header;
use waverant_media::{MediaTime, Track, TrackId, TrackKind, Tracks};

use super::press::{PicturePress, PieceLine, SharedPiece};
use crate::hub::Entry;

/// What a viewer gets that takes a picture at a time.
#[derive(Clone, Debug)]
pub enum PictureMessage {
    /// The tracks that there are, and those of them that follow; each gets a header next.
    Tracks(Arc<Tracks>, Vec<TrackId>),
    /// The header of a track: what was there before it is over.
    Header(TrackId, Bytes),
    /// A picture, or a frame of sound.
    Piece(Arc<SharedPiece>),
}

/// Says what a viewer gets, a picture or frame at a time: the lowest delay that there is. One for each viewer.
#[derive(Debug)]
pub struct PictureMux {
    /// The place of the sound that is wanted, counted from 0.
    sound: u8,
    current: Option<Arc<Tracks>>,
    tracks: BTreeMap<TrackId, MuxTrack>,
}

#[derive(Debug)]
struct MuxTrack {
    track: Track,
    /// For packets that are made for this viewer alone.
    line: PieceLine,
    /// Whether the header is still to be sent: that of pictures whose size only a keyframe tells.
    needs_header: bool,
}

impl PictureMux {
    /// For a viewer that wants the sound at `place`, counted from 0; the first one if there are less.
    pub fn new(place: u8) -> Self {
        Self { sound: place, current: None, tracks: BTreeMap::new() }
    }

    /// Adds what follows from a packet to `out`; pieces are made by `press`, once for all viewers of the show.
    pub fn push(&mut self, entry: &Entry, press: &mut PicturePress, out: &mut Vec<PictureMessage>) {
        let is_same = self.current.as_ref().is_some_and(|current| Arc::ptr_eq(current, &entry.tracks));
        if !is_same {
            self.follow(&entry.tracks, press.origin(&entry.packet), out);
        }
        let Some(track) = self.tracks.get_mut(&entry.packet.track) else { return };
        if std::mem::take(&mut track.needs_header) {
            let size = track.track.codec.picture_size_in(&entry.packet.payload);
            let header = write_cmaf_header(&track.track, &track.line.timeline, size);
            out.push(PictureMessage::Header(track.track.id, header));
        }
        let piece = press.piece(entry).unwrap_or_else(|| track.line.piece(&entry.packet));
        out.push(PictureMessage::Piece(piece));
    }

    fn follow(&mut self, tracks: &Arc<Tracks>, origin: MediaTime, out: &mut Vec<PictureMessage>) {
        self.current = Some(tracks.clone());
        let picture = tracks.first(TrackKind::Video);
        let mut sounds = tracks.iter().filter(|track| track.codec.kind() == TrackKind::Audio);
        let sound = sounds.nth(self.sound.into()).or(tracks.first(TrackKind::Audio));
        let shown: Vec<Track> = picture.into_iter().chain(sound).cloned().collect();
        let codec = |track: &Track| (track.id, track.codec.clone());
        let before: Vec<_> = self.tracks.values().map(|track| codec(&track.track)).collect();
        if before == shown.iter().map(codec).collect::<Vec<_>>() {
            return;
        }
        self.tracks = shown.iter().map(|track| (track.id, MuxTrack::new(track, origin))).collect();
        out.push(PictureMessage::Tracks(tracks.clone(), self.tracks.keys().copied().collect()));
    }
}

impl MuxTrack {
    fn new(track: &Track, origin: MediaTime) -> Self {
        Self { track: track.clone(), line: PieceLine::new(track, origin), needs_header: true }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use waverant_container::Mp4File;
    use waverant_media::Packet;
    use waverant_media::testing::{aac, av1, h264, hevc, opus, tracks};

    use super::*;
    use crate::hub::Origin;

    fn entry(tracks: &Arc<Tracks>, track: TrackId, millis: i64) -> Entry {
        let at = MediaTime::from_millis(millis);
        let payload = Bytes::from(format!("\0\0\0\u{1}A{millis}"));
        let packet = Packet { track, kind: track.kind(), dts: at, pts: at, random_access: millis % 1000 == 0, payload };
        Entry { packet, tracks: tracks.clone(), origin: Origin::Show, video_frames_before: 0 }
    }

    #[test]
    fn each_packet_is_a_piece_behind_the_header_of_its_track() {
        let set = Arc::new(tracks([(TrackId::VIDEO, h264()), (TrackId::AUDIO, aac()), (TrackId(3), opus())]));
        let (mut mux, mut press, mut out) = (PictureMux::new(1), PicturePress::default(), Vec::new());
        for millis in [0, 40, 80] {
            for track in [TrackId::VIDEO, TrackId::AUDIO, TrackId(3)] {
                mux.push(&entry(&set, track, millis), &mut press, &mut out);
            }
        }
        assert!(
            matches!(&out[0], PictureMessage::Tracks(all, sent) if all.len() == 3 && sent[..] == [TrackId(0), TrackId(3)])
        );
        for id in [TrackId::VIDEO, TrackId(3)] {
            let bytes = out.iter().filter_map(|message| match message {
                PictureMessage::Header(of, bytes) if *of == id => Some(bytes.to_vec()),
                PictureMessage::Piece(shared) if shared.track == id => Some(shared.piece.segments.concat()),
                _ => None,
            });
            let file = Mp4File::parse(&bytes.collect::<Vec<_>>().concat().into()).unwrap();
            let times: Vec<i64> = file.tracks[0].samples.iter().map(|sample| sample.dts.millis()).collect();
            assert_eq!(times.len(), 3);
            assert_eq!(times[0], 10_000);
        }
    }

    #[test]
    fn only_other_parameters_make_other_headers() {
        let one = Arc::new(tracks([(TrackId::VIDEO, h264())]));
        let same = Arc::new((*one).clone());
        let other = Arc::new(tracks([(TrackId::VIDEO, hevc())]));
        let (mut mux, mut press, mut out) = (PictureMux::new(0), PicturePress::default(), Vec::new());
        for (set, millis) in [(&one, 0), (&same, 40), (&other, 1000)] {
            mux.push(&entry(set, TrackId::VIDEO, millis), &mut press, &mut out);
        }
        let headers = out.iter().filter(|message| matches!(message, PictureMessage::Header(..))).count();
        assert_eq!((headers, out.len()), (2, 7));
    }

    fn pieces(mux: &mut PictureMux, press: &mut PicturePress, entries: &[Entry]) -> Vec<Arc<SharedPiece>> {
        let mut out = Vec::new();
        entries.iter().for_each(|entry| mux.push(entry, press, &mut out));
        let pieces = out.into_iter().filter_map(|message| match message {
            PictureMessage::Piece(piece) => Some(piece),
            _ => None,
        });
        pieces.collect()
    }

    #[test]
    fn a_piece_is_made_once_for_all_viewers() {
        let set = Arc::new(tracks([(TrackId::VIDEO, h264())]));
        let all: Vec<Entry> = (0..100).map(|number| entry(&set, TrackId::VIDEO, number * 40)).collect();
        let mut press = PicturePress::default();
        let (mut first, mut late, mut early) = (PictureMux::new(0), PictureMux::new(0), PictureMux::new(0));
        let made = pieces(&mut first, &mut press, &all[25..]);
        // Whoever comes later, or is behind, gets the same.
        let again = pieces(&mut late, &mut press, &all[50..]);
        assert!(made[25..].iter().zip(&again).all(|(one, other)| Arc::ptr_eq(one, other)));
        // What was passed over is made for who wants it, on the same clock.
        let own = pieces(&mut early, &mut press, &all);
        assert!(own[25..].iter().zip(&made).all(|(one, other)| Arc::ptr_eq(one, other)));
        let time = |piece: &SharedPiece| piece.piece.segments[0].clone();
        assert_eq!(own.len(), 100);
        assert_ne!(time(&own[0]), time(&own[1]));
        let mut count = 0;
        let wire = |piece: &Arc<SharedPiece>, count: &mut i32| {
            piece.on_the_wire(|shared| {
                *count += 1;
                vec![shared.piece.segments.concat().into()]
            })[0]
                .len()
        };
        assert_eq!(wire(&made[25], &mut count), wire(&again[0], &mut count));
        assert_eq!(count, 1, "its messages too");
    }

    proptest! {
        /// However viewers come, lag and jump: each gets each of its packets once, in order, with times that rise.
        #[test]
        fn viewers_get_what_they_take(steps in prop::collection::vec((0_usize..3, 1_usize..12, 0_usize..20), 1..60)) {
            let sets = [Arc::new(tracks([(TrackId::VIDEO, h264())])), Arc::new(tracks([(TrackId::VIDEO, av1())]))];
            let all: Vec<Entry> = (0..400_i64)
                .map(|number| entry(&sets[usize::from(number >= 200)], TrackId::VIDEO, number * 40))
                .collect();
            let mut press = PicturePress::default();
            let mut viewers = [0; 3].map(|_| (PictureMux::new(0), 0_usize));
            for (viewer, count, jump) in steps {
                let (mux, at) = &mut viewers[viewer];
                *at = (*at + if jump > 15 { jump } else { 0 }).min(all.len());
                let end = (*at + count).min(all.len());
                let got = pieces(mux, &mut press, &all[*at..end]);
                prop_assert_eq!(got.len(), end - *at);
                for (piece, entry) in got.iter().zip(&all[*at..end]) {
                    let bytes = piece.piece.segments.concat();
                    prop_assert!(bytes.ends_with(&entry.packet.payload), "it is this packet's");
                }
                *at = end;
            }
        }
    }
}
