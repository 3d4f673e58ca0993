//! Keys that somebody chose, or brought along from before.

use thiserror::Error;

/// The fewest and the most characters.
const LENGTHS: std::ops::RangeInclusive<usize> = 8..=128;

/// Characters that stand for something else in an address, a stream id or a list.
const RESERVED: &str = "/?&#%,;\"\\<>`{}|^";

/// Why a text cannot be a stream key.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum OwnKeyError {
    /// Too short or too long.
    #[error("it has {0} characters; between 8 and 128 were expected")]
    Length(usize),
    /// Something that encoders would not send as it is.
    #[error("`{}` stands in it; letters, digits and any of `-._~!$'()*+:=@[]` were expected", .0.escape_default())]
    Character(char),
}

/// Looks whether encoders send a text as it is, and whether it is long enough to be tried for a while.
///
/// # Errors
/// [`OwnKeyError`] with what was found.
pub fn own_key_fault(text: &str) -> Result<(), OwnKeyError> {
    if let Some(odd) = text.chars().find(|letter| !letter.is_ascii_graphic() || RESERVED.contains(*letter)) {
        return Err(OwnKeyError::Character(odd));
    }
    if LENGTHS.contains(&text.len()) { Ok(()) } else { Err(OwnKeyError::Length(text.chars().count())) }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("boathouse-2019", Ok(()))]
    #[case("A=b+c:d@e$", Ok(()))]
    #[case("seven77", Err(OwnKeyError::Length(7)))]
    #[case("", Err(OwnKeyError::Length(0)))]
    #[case("boat house", Err(OwnKeyError::Character(' ')))]
    #[case("live/boathouse", Err(OwnKeyError::Character('/')))]
    #[case("bötehaus", Err(OwnKeyError::Character('ö')))]
    #[case("boathouse\n", Err(OwnKeyError::Character('\n')))]
    fn keys_are_what_encoders_send(#[case] text: &str, #[case] expected: Result<(), OwnKeyError>) {
        assert_eq!(own_key_fault(text), expected);
        assert_eq!(own_key_fault(&"x".repeat(129)), Err(OwnKeyError::Length(129)));
    }
}
