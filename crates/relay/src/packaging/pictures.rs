use std::collections::BTreeMap;
use std::sync::Arc;

use bytes::Bytes;
use waverant_container::{CmafPiece, CmafTimeline, write_cmaf_header, write_cmaf_piece};
use waverant_media::{MediaTime, Track, TrackId, TrackKind, Tracks};

use crate::hub::Entry;

/// The zero of the pieces' clock lies so much before the first packet: sound may come behind pictures.
const BEFORE_FIRST: MediaTime = MediaTime::from_millis(10_000);

/// What a viewer gets that takes a picture at a time.
#[derive(Clone, Debug)]
pub enum PictureMessage {
    /// The tracks that there are, and those of them that follow; each gets a header next.
    Tracks(Arc<Tracks>, Vec<TrackId>),
    /// The header of a track: what was there before it is over.
    Header(TrackId, Bytes),
    /// A picture, or a frame of sound.
    Piece(TrackId, CmafPiece),
}

/// Makes pieces of one picture or frame each: the lowest delay that there is. One for each viewer.
#[derive(Debug)]
pub struct PictureMux {
    /// The place of the sound that is wanted, counted from 0.
    sound: u8,
    origin: Option<MediaTime>,
    current: Option<Arc<Tracks>>,
    tracks: BTreeMap<TrackId, MuxTrack>,
}

#[derive(Debug)]
struct MuxTrack {
    track: Track,
    timeline: CmafTimeline,
    sequence: u32,
    /// Whether the header is still to be sent: that of pictures whose size only a keyframe tells.
    needs_header: bool,
}

impl PictureMux {
    /// For a viewer that wants the sound at `place`, counted from 0; the first one if there are less.
    pub fn new(place: u8) -> Self {
        Self { sound: place, origin: None, current: None, tracks: BTreeMap::new() }
    }

    /// Makes what follows from a packet; it goes to `out`.
    pub fn push(&mut self, entry: &Entry, out: &mut Vec<PictureMessage>) {
        let origin = *self.origin.get_or_insert(entry.packet.dts - BEFORE_FIRST);
        let is_same = self.current.as_ref().is_some_and(|current| Arc::ptr_eq(current, &entry.tracks));
        if !is_same {
            self.follow(&entry.tracks, origin, out);
        }
        let Some(track) = self.tracks.get_mut(&entry.packet.track) else { return };
        let sample = track.timeline.place(&entry.packet);
        if std::mem::take(&mut track.needs_header) {
            let size = track.track.codec.picture_size_in(&entry.packet.payload);
            let header = write_cmaf_header(&track.track, &track.timeline, size);
            out.push(PictureMessage::Header(track.track.id, header));
        }
        track.sequence = track.sequence.wrapping_add(1);
        let piece = write_cmaf_piece(entry.packet.kind, track.sequence, std::slice::from_ref(&sample));
        out.push(PictureMessage::Piece(track.track.id, piece));
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
        Self { track: track.clone(), timeline: CmafTimeline::new(track, origin), sequence: 0, needs_header: true }
    }
}

#[cfg(test)]
mod tests {
    use waverant_container::Mp4File;
    use waverant_media::Packet;
    use waverant_media::testing::{aac, h264, opus, tracks};

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
        let (mut mux, mut out) = (PictureMux::new(1), Vec::new());
        for millis in [0, 40, 80] {
            for track in [TrackId::VIDEO, TrackId::AUDIO, TrackId(3)] {
                mux.push(&entry(&set, track, millis), &mut out);
            }
        }
        assert!(
            matches!(&out[0], PictureMessage::Tracks(all, sent) if all.len() == 3 && sent[..] == [TrackId(0), TrackId(3)])
        );
        for id in [TrackId::VIDEO, TrackId(3)] {
            let bytes = out.iter().filter_map(|message| match message {
                PictureMessage::Header(of, bytes) if *of == id => Some(bytes.to_vec()),
                PictureMessage::Piece(of, piece) if *of == id => Some(piece.segments.concat()),
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
        let other = Arc::new(tracks([(TrackId::VIDEO, waverant_media::testing::hevc())]));
        let (mut mux, mut out) = (PictureMux::new(0), Vec::new());
        for (set, millis) in [(&one, 0), (&same, 40), (&other, 1000)] {
            mux.push(&entry(set, TrackId::VIDEO, millis), &mut out);
        }
        let headers = out.iter().filter(|message| matches!(message, PictureMessage::Header(..))).count();
        assert_eq!((headers, out.len()), (2, 7));
    }
}
