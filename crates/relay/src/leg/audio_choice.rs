use std::fmt;
use std::str::FromStr;

use thiserror::Error;
use waverant_media::{Track, TrackKind, Tracks};

/// The longest language or name.
const MAX_TEXT: usize = 48;

/// Which track of sound a destination gets.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AudioChoice {
    /// The wanted track; none for all that the destination takes.
    pub pick: Option<AudioPick>,
    /// What to send when there is no such track.
    pub otherwise: Otherwise,
}

/// What to send when the wanted track is not there.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Otherwise {
    /// The first track.
    #[default]
    First,
    /// No sound.
    Nothing,
}

/// A wanted track, written `number:2`, `language:de` or `name:commentary`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum AudioPick {
    /// By its place, counted from 1.
    Number(u8),
    /// By its language; `de` also stands for `de-AT` (RFC 4647, 3.3.1).
    Language(String),
    /// By its name, whatever its capitals.
    Name(String),
}

/// The text is no choice of a track.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("`{found}` does not choose a track; `number:2`, `language:de` or `name:commentary` were expected")]
pub struct AudioPickError {
    found: String,
}

impl FromStr for AudioPick {
    type Err = AudioPickError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let failure = || AudioPickError { found: text.chars().take(MAX_TEXT).collect() };
        let (by, value) = text.split_once(':').ok_or_else(failure)?;
        let value = value.trim();
        if value.is_empty() || value.chars().count() > MAX_TEXT || value.chars().any(char::is_control) {
            return Err(failure());
        }
        match by.trim() {
            "number" => match value.parse() {
                Ok(number @ 1..) => Ok(Self::Number(number)),
                _ => Err(failure()),
            },
            "language" => Ok(Self::Language(value.to_owned())),
            "name" => Ok(Self::Name(value.to_owned())),
            _ => Err(failure()),
        }
    }
}

impl fmt::Display for AudioPick {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Number(number) => write!(out, "number:{number}"),
            Self::Language(language) => write!(out, "language:{language}"),
            Self::Name(name) => write!(out, "name:{name}"),
        }
    }
}

impl AudioPick {
    fn is(&self, track: &Track) -> bool {
        match self {
            Self::Number(number) => track.id.place().checked_add(1) == Some(*number),
            Self::Language(wanted) => track.language.as_deref().is_some_and(|language| speaks(language, wanted)),
            Self::Name(wanted) => {
                track.name.as_deref().is_some_and(|name| name.to_lowercase() == wanted.to_lowercase())
            }
        }
    }
}

impl AudioChoice {
    /// The tracks of sound to send, and what to say if the wanted one is not among them.
    pub(super) fn choose<'a>(&self, tracks: &'a Tracks) -> (Vec<&'a Track>, Option<String>) {
        let sound: Vec<&Track> = tracks.iter().filter(|track| track.codec.kind() == TrackKind::Audio).collect();
        let Some(pick) = &self.pick else { return (sound, None) };
        if let Some(track) = sound.iter().find(|track| pick.is(track)) {
            return (vec![track], None);
        }
        match (self.otherwise, sound.first()) {
            (_, None) => (Vec::new(), None),
            (Otherwise::First, Some(first)) => {
                (vec![first], Some(format!("there is no sound `{pick}`; the first track is sent")))
            }
            (Otherwise::Nothing, Some(_)) => (Vec::new(), Some(format!("there is no sound `{pick}`; none is sent"))),
        }
    }
}

fn speaks(language: &str, wanted: &str) -> bool {
    let (language, wanted) = (language.to_ascii_lowercase(), wanted.to_ascii_lowercase());
    language.strip_prefix(&wanted).is_some_and(|rest| rest.is_empty() || rest.starts_with('-'))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;
    use waverant_media::TrackId;
    use waverant_media::testing::{aac, h264};

    use super::*;

    fn regatta() -> Tracks {
        let mut tracks = Tracks::new();
        tracks.set(Track::new(TrackId::VIDEO, h264()));
        for (place, language, name) in [(0, "en", "Programme mix"), (1, "de-AT", "Commentary"), (2, "den", "Riverbank")]
        {
            let id = TrackId::at(TrackKind::Audio, place).unwrap();
            tracks.set(Track { language: Some(language.into()), name: Some(name.into()), ..Track::new(id, aac()) });
        }
        tracks
    }

    #[rstest]
    #[case("", Otherwise::First, &[0, 1, 2], false)]
    #[case("number:2", Otherwise::First, &[1], false)]
    #[case("language:de", Otherwise::First, &[1], false)]
    #[case("language:DE-at", Otherwise::First, &[1], false)]
    #[case("name:riverBANK", Otherwise::First, &[2], false)]
    #[case("number:4", Otherwise::First, &[0], true)]
    #[case("language:fr", Otherwise::Nothing, &[], true)]
    fn the_wanted_track_is_sent(
        #[case] pick: &str,
        #[case] otherwise: Otherwise,
        #[case] expected: &[u8],
        #[case] is_told: bool,
    ) {
        let choice = AudioChoice { pick: pick.parse().ok(), otherwise };
        let tracks = regatta();
        let (chosen, note) = choice.choose(&tracks);
        assert_eq!(chosen.iter().map(|track| track.id.place()).collect::<Vec<_>>(), expected);
        assert_eq!(note.is_some(), is_told);
    }

    #[rstest]
    #[case("german")]
    #[case("language:")]
    #[case("number:0")]
    #[case("number:300")]
    #[case("kind:2")]
    fn what_chooses_no_track_is_told(#[case] text: &str) {
        let error = text.parse::<AudioPick>().unwrap_err().to_string();
        assert!(error.contains(text) && error.contains("language:de"));
    }

    proptest! {
        #[test]
        fn any_text_is_a_choice_or_an_error(text in ".{0,80}") {
            if let Ok(pick) = text.parse::<AudioPick>() {
                prop_assert_eq!(pick.to_string().parse::<AudioPick>(), Ok(pick));
            }
        }
    }
}
