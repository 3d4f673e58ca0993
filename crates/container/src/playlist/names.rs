use std::fmt;
use std::str::FromStr;

/// What a piece of a track is called in playlists; relative to the playlist that names it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum PieceName {
    /// The header of the nth stretch of unchanged parameters.
    Header(u64),
    /// The segment with a media sequence number.
    Segment(u64),
    /// A part of it, counted from 0.
    Part(u64, u32),
}

impl fmt::Display for PieceName {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Header(number) => write!(out, "head-{number}.mp4"),
            Self::Segment(number) => write!(out, "{number}.m4s"),
            Self::Part(number, part) => write!(out, "{number}-{part}.m4s"),
        }
    }
}

/// The name is not one of a piece.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("not the name of a piece; `head-N.mp4`, `N.m4s` and `N-PART.m4s` are")]
pub struct NotAPiece;

impl FromStr for PieceName {
    type Err = NotAPiece;

    fn from_str(name: &str) -> Result<Self, NotAPiece> {
        let read = || -> Option<Self> {
            if let Some(number) = name.strip_prefix("head-").and_then(|rest| rest.strip_suffix(".mp4")) {
                return number.parse().ok().map(Self::Header);
            }
            let numbers = name.strip_suffix(".m4s")?;
            Some(match numbers.split_once('-') {
                Some((number, part)) => Self::Part(number.parse().ok()?, part.parse().ok()?),
                None => Self::Segment(numbers.parse().ok()?),
            })
        };
        // One piece has one name: `+1`, `01` and the like are none.
        read().filter(|piece| piece.to_string() == name).ok_or(NotAPiece)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::header(PieceName::Header(3), "head-3.mp4")]
    #[case::segment(PieceName::Segment(1200), "1200.m4s")]
    #[case::part(PieceName::Part(1200, 7), "1200-7.m4s")]
    fn pieces_have_one_name(#[case] piece: PieceName, #[case] name: &str) {
        assert_eq!((piece.to_string().as_str(), name.parse()), (name, Ok(piece)));
    }

    #[rstest]
    fn other_names_are_none(
        #[values(
            "",
            ".m4s",
            "01.m4s",
            "+1.m4s",
            "1-.m4s",
            "1-2-3.m4s",
            "../1.m4s",
            "1.mp4",
            "head-.mp4",
            "head--1.mp4"
        )]
        name: &str,
    ) {
        assert_eq!(name.parse::<PieceName>(), Err(NotAPiece));
    }

    proptest! {
        #[test]
        fn any_text_is_read_or_refused(name in ".{0,20}") {
            if let Ok(piece) = name.parse::<PieceName>() {
                prop_assert_eq!(piece.to_string(), name);
            }
        }
    }
}
