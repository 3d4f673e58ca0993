use waverant_container::{TagCodec, TagForm};
use waverant_media::{Track, TrackId, TrackKind, Tracks};
use waverant_rtmp::Capabilities;

/// How one track is sent.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct PlannedTrack {
    pub(super) id: TrackId,
    pub(super) codec: TagCodec,
    pub(super) form: TagForm,
}

/// Which tracks a peer gets, and in which form.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct TrackPlan {
    pub(super) tracks: Vec<PlannedTrack>,
    /// Names of the codecs of tracks that the peer does not get.
    pub(super) left_out: Vec<String>,
    /// The pictures that the peer gets first of all.
    pub(super) main_video: Option<TrackId>,
}

impl TrackPlan {
    /// Of each kind, the first track that the peer can take goes as its only one, in the first
    /// form of RTMP where the codec has one; the others go as further tracks to a peer that
    /// knows such.
    pub(super) fn new(tracks: &Tracks, peer: &Capabilities) -> Self {
        let mut plan = Self::default();
        for kind in [TrackKind::Video, TrackKind::Audio] {
            plan.add_kind(tracks.iter().filter(|track| track.codec.kind() == kind), peer);
        }
        let is_video = |id: &TrackId| tracks.get(*id).is_some_and(|track| track.codec.kind() == TrackKind::Video);
        plan.main_video = plan.tracks.iter().map(|planned| planned.id).find(is_video);
        plan
    }

    fn add_kind<'a>(&mut self, tracks: impl Iterator<Item = &'a Track>, peer: &Capabilities) {
        let mut next = 0;
        for track in tracks {
            let codec = TagCodec::of(&track.codec);
            let lettered = codec.and_then(TagCodec::letters).is_some_and(|letters| peer.takes(letters));
            let form = match (next, codec) {
                (0, Some(codec)) if codec.has_first_form() => Some(TagForm::First),
                (0, Some(_)) if lettered => Some(TagForm::Letters),
                (1.., Some(_)) if lettered && peer.takes_many_tracks() => Some(TagForm::Track(next)),
                _ => None,
            };
            match form.zip(codec) {
                Some((form, codec)) => {
                    self.tracks.push(PlannedTrack { id: track.id, codec, form });
                    next += 1;
                }
                None => self.left_out.push(track.codec.name().to_owned()),
            }
        }
    }

    pub(super) fn find(&self, id: TrackId) -> Option<&PlannedTrack> {
        self.tracks.iter().find(|track| track.id == id)
    }
}
