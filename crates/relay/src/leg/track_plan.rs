use waverant_container::{TagCodec, TagForm};
use waverant_media::{Track, TrackId, TrackKind, Tracks};
use waverant_rtmp::Capabilities;

use super::AudioChoice;

/// What a destination's owner says about what is sent there.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SinkRules {
    /// Which sound.
    pub audio: AudioChoice,
    /// Which track of pictures, by its place, counted from 1; none for all that it takes. Where there is no such track
    /// it gets all.
    pub video_track: Option<u8>,
    /// Whether it gets silence when there is no sound.
    pub adds_silence: bool,
    /// Names of codecs that it takes without saying so itself.
    pub takes: Vec<String>,
}

impl SinkRules {
    /// What of `tracks` is meant for the destination, whether it takes it or not.
    pub fn meant(&self, tracks: &Tracks) -> Tracks {
        self.meant_with_note(tracks).0
    }

    /// What is meant for the destination, and what to say if the wanted sound is not among it.
    pub(super) fn meant_with_note(&self, tracks: &Tracks) -> (Tracks, Option<String>) {
        let (sound, note) = self.audio.choose(tracks);
        let mut meant = Tracks::new();
        self.pictures(tracks).into_iter().chain(sound).for_each(|track| meant.set(track.clone()));
        (meant, note)
    }

    /// The tracks of pictures that are meant for the destination.
    fn pictures<'a>(&self, tracks: &'a Tracks) -> Vec<&'a Track> {
        let all: Vec<&Track> = tracks.iter().filter(|track| track.codec.kind() == TrackKind::Video).collect();
        let wanted = self.video_track.and_then(|number| number.checked_sub(1));
        let chosen = all.iter().find(|track| wanted == Some(track.id.place()));
        chosen.map_or_else(|| all.clone(), |track| vec![*track])
    }

    /// True if silence is to be added to these tracks.
    pub(super) fn wants_silence(&self, tracks: &Tracks) -> bool {
        self.adds_silence && tracks.has(TrackKind::Video) && !tracks.has(TrackKind::Audio)
    }
}

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
    left_out: Vec<String>,
    /// What became of the choice of sound.
    audio_note: Option<String>,
    /// The pictures that the peer gets first of all.
    pub(super) main_video: Option<TrackId>,
}

impl TrackPlan {
    /// Of each kind, the first track that the peer can take goes as its only one, in the first
    /// form of RTMP where the codec has one; the others go as further tracks to a peer that
    /// knows such. Of the sound only what was chosen counts.
    pub(super) fn new(tracks: &Tracks, peer: &Capabilities, rules: &SinkRules) -> Self {
        let mut plan = Self::default();
        plan.add_kind(rules.pictures(tracks).into_iter(), peer, rules);
        let (sound, note) = rules.audio.choose(tracks);
        plan.add_kind(sound.into_iter(), peer, rules);
        plan.audio_note = note;
        let is_video = |id: &TrackId| tracks.get(*id).is_some_and(|track| track.codec.kind() == TrackKind::Video);
        plan.main_video = plan.tracks.iter().map(|planned| planned.id).find(is_video);
        plan
    }

    /// What the peer does not get, in words.
    pub(super) fn note(&self) -> Option<String> {
        let codecs = self.left_out.join(", ");
        let left_out = (!codecs.is_empty()).then(|| format!("not sent, since it does not take it: {codecs}"));
        let notes: Vec<String> = left_out.into_iter().chain(self.audio_note.clone()).collect();
        (!notes.is_empty()).then(|| notes.join("; "))
    }

    fn add_kind<'a>(&mut self, tracks: impl Iterator<Item = &'a Track>, peer: &Capabilities, rules: &SinkRules) {
        let mut next = 0;
        for track in tracks {
            let codec = TagCodec::of(&track.codec);
            let is_named = rules.takes.iter().any(|name| name.eq_ignore_ascii_case(track.codec.name()));
            let letters = codec.and_then(TagCodec::letters);
            let lettered = letters.is_some_and(|letters| is_named || peer.takes(letters));
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
