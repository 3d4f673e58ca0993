use std::fmt;
use std::str::FromStr;

use thiserror::Error;

/// The longest channel name; it becomes a folder name and part of addresses.
const MAX_LENGTH: usize = 48;

/// A channel's name: small letters, digits and single hyphens, so that it can stand in an
/// address and a folder name as it is.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct ChannelName(String);

/// Why a text is no channel name.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum ChannelNameError {
    /// Nothing, or too much.
    #[error("a channel name has 1 to {MAX_LENGTH} characters, this one has {0}")]
    Length(usize),
    /// A character that is not allowed.
    #[error("`{0}` cannot stand in a channel name; use small letters, digits and hyphens, as in `finish-line`")]
    Character(char),
    /// A hyphen at an end.
    #[error("a channel name begins and ends with a letter or digit")]
    Hyphen,
}

impl ChannelName {
    /// The name as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for ChannelName {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(&self.0)
    }
}

impl FromStr for ChannelName {
    type Err = ChannelNameError;

    fn from_str(text: &str) -> Result<Self, ChannelNameError> {
        let length = text.chars().count();
        if length == 0 || length > MAX_LENGTH {
            return Err(ChannelNameError::Length(length));
        }
        let legal = |character: &char| matches!(character, 'a'..='z' | '0'..='9' | '-');
        if let Some(character) = text.chars().find(|character| !legal(character)) {
            return Err(ChannelNameError::Character(character));
        }
        if text.starts_with('-') || text.ends_with('-') {
            return Err(ChannelNameError::Hyphen);
        }
        Ok(Self(text.to_owned()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::plain("finish-line", None)]
    #[case::digits("court-2", None)]
    #[case::empty("", Some(ChannelNameError::Length(0)))]
    #[case::upper_case("Finish", Some(ChannelNameError::Character('F')))]
    #[case::path("../etc", Some(ChannelNameError::Character('.')))]
    #[case::space("finish line", Some(ChannelNameError::Character(' ')))]
    #[case::hyphen_first("-a", Some(ChannelNameError::Hyphen))]
    fn names(#[case] text: &str, #[case] expected: Option<ChannelNameError>) {
        assert_eq!(text.parse::<ChannelName>().err(), expected);
    }

    #[test]
    fn the_longest_name() {
        assert!("a".repeat(MAX_LENGTH).parse::<ChannelName>().is_ok());
        assert_eq!("a".repeat(MAX_LENGTH + 1).parse::<ChannelName>(), Err(ChannelNameError::Length(49)));
    }
}
