use std::fmt;
use std::str::FromStr;

use thiserror::Error;
use time::OffsetDateTime;
use time::macros::format_description;

use crate::ChannelName;

/// The longest template.
const MAX_LENGTH: usize = 160;

/// The longest name of a file or folder that comes of one, with room for an extension and a number.
const MAX_PART: usize = 200;

/// What a template may name.
const PLACEHOLDERS: [&str; 5] = ["channel", "date", "time", "session", "take"];

/// Why a template cannot be used.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum NameError {
    /// It is empty or too long.
    #[error("it has {0} characters; 1 to {MAX_LENGTH} are allowed")]
    Length(usize),
    /// It names something unknown.
    #[error("`{{{0}}}` is unknown; {{channel}}, {{date}}, {{time}}, {{session}} and {{take}} can be used")]
    Placeholder(String),
    /// A brace has no partner.
    #[error("a brace has no partner")]
    Brace,
    /// A character is not safe on all file systems.
    #[error("`{0}` is not safe in file names; letters, digits, `-`, `_`, `.`, spaces and `/` are")]
    Character(char),
    /// A folder or file would be hidden, empty, or lead out of the recordings folder.
    #[error("`{0}` is no name for a folder or file: it may not be empty, nor begin or end with a dot or a space")]
    Part(String),
    /// Takes would get the same name.
    #[error("takes would overwrite each other's names: it needs {{take}}, and {{session}} or {{date}} with {{time}}")]
    NotUnique,
}

/// What a take is called: a path within the recordings folder, without an extension.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NameTemplate(String);

/// What of a take its name can tell.
#[derive(Clone, Copy, Debug)]
pub struct NameFacts<'a> {
    /// The channel.
    pub channel: &'a ChannelName,
    /// When it began. Names are in UTC.
    pub started_at: OffsetDateTime,
    /// The session's number.
    pub session_id: u64,
    /// Its place in the session, counted from 1.
    pub number: u32,
}

impl Default for NameTemplate {
    fn default() -> Self {
        Self("{channel}/{date}_{time}_s{session}_take-{take}".to_owned())
    }
}

impl fmt::Display for NameTemplate {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(&self.0)
    }
}

impl FromStr for NameTemplate {
    type Err = NameError;

    fn from_str(text: &str) -> Result<Self, NameError> {
        let length = text.chars().count();
        if length == 0 || length > MAX_LENGTH {
            return Err(NameError::Length(length));
        }
        let mut named = Vec::new();
        let plain = replaced(text, |name| {
            named.push(name.to_owned());
            PLACEHOLDERS.contains(&name).then(|| "x".to_owned()).ok_or_else(|| NameError::Placeholder(name.to_owned()))
        })?;
        let is_safe = |letter: char| letter.is_alphanumeric() || "-_. /".contains(letter);
        if let Some(letter) = plain.chars().find(|letter| !is_safe(*letter)) {
            return Err(NameError::Character(letter));
        }
        let at_edge = |part: &str| part.starts_with(['.', ' ']) || part.ends_with(['.', ' ']);
        if let Some(part) = plain.split('/').find(|part| part.is_empty() || at_edge(part) || part.len() > MAX_PART) {
            return Err(NameError::Part(part.to_owned()));
        }
        let has = |name: &str| named.iter().any(|named| named == name);
        let is_one_session = has("session") || has("date") && has("time");
        if !has("take") || !is_one_session {
            return Err(NameError::NotUnique);
        }
        Ok(Self(text.to_owned()))
    }
}

impl NameTemplate {
    /// The path of a take, without an extension.
    pub fn path(&self, facts: &NameFacts<'_>) -> String {
        let began = facts.started_at.to_offset(time::UtcOffset::UTC);
        let date = format_description!("[year]-[month]-[day]");
        let time = format_description!("[hour][minute][second]");
        let filled = replaced::<NameError>(&self.0, |name| {
            Ok(match name {
                "channel" => facts.channel.to_string(),
                "date" => began.format(date).unwrap_or_default(),
                "time" => began.format(time).unwrap_or_default(),
                "session" => facts.session_id.to_string(),
                _ => facts.number.to_string(),
            })
        });
        // It was checked when it was made.
        filled.unwrap_or_default()
    }
}

/// Replaces each name in braces.
fn replaced<E: From<NameError>>(text: &str, mut with: impl FnMut(&str) -> Result<String, E>) -> Result<String, E> {
    let (mut out, mut rest) = (String::new(), text);
    while let Some(at) = rest.find(['{', '}']) {
        out.push_str(&rest[..at]);
        let name = rest[at..].strip_prefix('{').ok_or(NameError::Brace)?;
        let (name, behind) = name.split_once('}').ok_or(NameError::Brace)?;
        out.push_str(&with(name)?);
        rest = behind;
    }
    out.push_str(rest);
    Ok(out)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;
    use time::macros::datetime;

    use super::*;

    fn path(template: &str) -> String {
        let channel: ChannelName = "finish-line".parse().unwrap();
        let started_at = datetime!(2026-05-17 16:04:09 +2);
        let facts = NameFacts { channel: &channel, started_at, session_id: 12, number: 3 };
        template.parse::<NameTemplate>().unwrap().path(&facts)
    }

    #[rstest]
    #[case("{channel}/{date}_{time}_s{session}_take-{take}", "finish-line/2026-05-17_140409_s12_take-3")]
    #[case("{date}/{channel} {session} part {take}", "2026-05-17/finish-line 12 part 3")]
    fn names_tell_channel_time_session_and_take(#[case] template: &str, #[case] expected: &str) {
        assert_eq!(path(template), expected);
    }

    #[test]
    fn the_usual_template_is_a_legal_one() {
        let usual = NameTemplate::default();
        assert_eq!(usual.to_string().parse(), Ok(usual));
    }

    #[rstest]
    #[case::empty("", NameError::Length(0))]
    #[case::unknown("{channel}/{user}{take}", NameError::Placeholder("user".to_owned()))]
    #[case::open_brace("{take", NameError::Brace)]
    #[case::lone_brace("take}", NameError::Brace)]
    #[case::absolute("/{session}{take}", NameError::Part(String::new()))]
    #[case::upwards("../{session}{take}", NameError::Part("..".to_owned()))]
    #[case::hidden("{channel}/.{session}{take}", NameError::Part(".xx".to_owned()))]
    #[case::unsafe_letter("{session}:{take}", NameError::Character(':'))]
    #[case::zero("{session}\0{take}", NameError::Character('\0'))]
    #[case::same_name_for_all("{channel}/{take}", NameError::NotUnique)]
    #[case::same_name_in_a_session("{channel}/{session}", NameError::NotUnique)]
    fn unsafe_templates_are_refused(#[case] template: &str, #[case] expected: NameError) {
        assert_eq!(template.parse::<NameTemplate>(), Err(expected));
    }

    proptest! {
        #[test]
        fn no_template_leads_out_of_the_folder(template in "[a-z{}/. ]{0,20}\\{session\\}[a-z/. \\\\]{0,8}\\{take\\}.{0,8}") {
            if template.parse::<NameTemplate>().is_ok() {
                let path = std::path::PathBuf::from(path(&template));
                let is_plain = |part| matches!(part, std::path::Component::Normal(_));
                prop_assert!(path.components().all(is_plain), "{}", path.display());
            }
        }
    }
}
