use std::collections::BTreeMap;
use std::time::Duration;

use serde::Deserialize;
use thiserror::Error;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;

use crate::{ChannelName, RecordingMode, printable};

/// The longest answer, in bytes.
pub const MAX_ANSWER: usize = 16 * 1024;

/// The longest time that an answer may be kept.
const MAX_KEEP: Duration = Duration::from_secs(24 * 3600);

/// Destinations that one answer may name.
const MAX_DESTINATIONS: usize = 100;

/// The longest name of one, and the longest label, in characters.
const MAX_NAME: usize = 80;

/// What is told of the words of an answer, in characters.
const MAX_WORDS: usize = 200;

/// What a system that lets somebody in may say besides. What it leaves out is as the key says.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Grant {
    /// The channel that it is let into.
    pub channel: Option<ChannelName>,
    /// Who it is.
    pub label: Option<String>,
    /// Destinations that are sent to, or not, in the session that it begins.
    pub destinations: BTreeMap<String, bool>,
    /// What is recorded of that session.
    pub recording: Option<RecordingMode>,
    /// When it has to go.
    pub until: Option<OffsetDateTime>,
}

/// What a system answers.
#[derive(Clone, Debug, PartialEq)]
pub enum Answer {
    /// It may come in.
    LetIn(Grant),
    /// It may not; in the system's words, if it had any.
    Refused(Option<String>),
}

/// Why an answer is none.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum AnswerFault {
    /// It says nothing about whether somebody may come in.
    #[error("it answered {0}, which says neither yes (200 to 299) nor no (400 to 499)")]
    Status(u16),
    /// It sends us elsewhere.
    #[error("it answered {0}, which sends elsewhere; enter the address itself where it answers")]
    Redirect(u16),
    /// It asks to be asked later.
    #[error("it answered {0}, which asks to come again later")]
    Busy(u16),
    /// What it says cannot be read.
    #[error("its answer is not as expected: {0}. Nothing, or a JSON object as docs/asking.md shows, was expected")]
    Unreadable(String),
}

#[derive(Deserialize)]
struct Told {
    channel: Option<String>,
    label: Option<String>,
    destinations: Option<BTreeMap<String, bool>>,
    recording: Option<String>,
    until: Option<String>,
    keep_s: Option<u64>,
    message: Option<String>,
}

impl Answer {
    /// Reads an answer, and for how long it may be kept.
    ///
    /// # Errors
    /// [`AnswerFault`] if it says nothing that could be followed.
    pub fn read(status: u16, body: &[u8]) -> Result<(Self, Duration), AnswerFault> {
        match status {
            200..=299 => {
                let Some(told) = read(body)? else { return Ok((Self::LetIn(Grant::default()), Duration::ZERO)) };
                let keep = told.keep();
                Ok((Self::LetIn(told.grant()?), keep))
            }
            408 | 425 | 429 => Err(AnswerFault::Busy(status)),
            400..=499 => {
                // Whatever it looks like, it is a no.
                let told = read(body).ok().flatten();
                let keep = told.as_ref().map(Told::keep).unwrap_or_default();
                let words = match told {
                    Some(told) => told.message,
                    None => plain_words(body),
                };
                Ok((Self::Refused(words.map(|words| shown(words.trim())).filter(|words| !words.is_empty())), keep))
            }
            300..=399 => Err(AnswerFault::Redirect(status)),
            _ => Err(AnswerFault::Status(status)),
        }
    }
}

/// None if there is nothing to read.
fn read(body: &[u8]) -> Result<Option<Told>, AnswerFault> {
    if body.iter().all(u8::is_ascii_whitespace) {
        return Ok(None);
    }
    // A list would be taken for the fields of an object in their order.
    if body.trim_ascii_start().first() != Some(&b'{') {
        return Err(unreadable("it begins otherwise than an object"));
    }
    serde_json::from_slice(body).map(Some).map_err(unreadable)
}

/// A line of text, where it is one: a page is of no use to an encoder.
fn plain_words(body: &[u8]) -> Option<String> {
    let text = std::str::from_utf8(body).ok()?.trim();
    (!text.starts_with(['<', '{', '['])).then(|| text.lines().next().unwrap_or_default().to_owned())
}

fn shown(text: &str) -> String {
    printable(text, MAX_WORDS).into_owned()
}

fn unreadable(what: impl ToString) -> AnswerFault {
    AnswerFault::Unreadable(shown(&what.to_string()))
}

impl Told {
    fn keep(&self) -> Duration {
        Duration::from_secs(self.keep_s.unwrap_or_default()).min(MAX_KEEP)
    }

    fn grant(self) -> Result<Grant, AnswerFault> {
        let destinations = self.destinations.unwrap_or_default();
        let is_long = |name: &str| name.chars().nth(MAX_NAME).is_some();
        if destinations.len() > MAX_DESTINATIONS || destinations.keys().any(|name| is_long(name)) {
            let told =
                format!("`destinations` has more than {MAX_DESTINATIONS} names, or a longer one than {MAX_NAME}");
            return Err(unreadable(told));
        }
        if let Some(label) = self.label.as_deref().filter(|label| is_long(label)) {
            let found = label.chars().count();
            return Err(unreadable(format!("`label` has {found} characters, and at most {MAX_NAME} were expected")));
        }
        let channel = self.channel.map(|name| name.parse::<ChannelName>());
        let channel = channel.transpose().map_err(|error| unreadable(format!("`channel`: {error}")))?;
        let label = self.label.map(|label| printable(label.trim(), MAX_NAME).into_owned());
        Ok(Grant {
            channel,
            label: label.filter(|label| !label.is_empty()),
            destinations,
            recording: self.recording.as_deref().map(recording_named).transpose()?,
            until: self.until.as_deref().map(time_told).transpose()?,
        })
    }
}

fn time_told(text: &str) -> Result<OffsetDateTime, AnswerFault> {
    let expected = "a time like `2026-05-17T18:00:00+02:00` was expected";
    OffsetDateTime::parse(text, &Rfc3339).map_err(|_| unreadable(format!("`until` is `{text}`, and {expected}")))
}

fn recording_named(word: &str) -> Result<RecordingMode, AnswerFault> {
    match word {
        "always" => Ok(RecordingMode::Always),
        "by_hand" => Ok(RecordingMode::ByHand),
        "off" => Ok(RecordingMode::Off),
        _ => Err(unreadable(format!("`recording` is `{word}`, and `always`, `by_hand` or `off` was expected"))),
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;
    use time::macros::datetime;

    use super::*;

    fn refused(words: &str) -> (Answer, Duration) {
        let words = Some(words.to_owned()).filter(|words| !words.is_empty());
        (Answer::Refused(words), Duration::ZERO)
    }

    #[rstest]
    #[case::nothing("")]
    #[case::spaces(" \r\n")]
    #[case::an_empty_object("{}")]
    #[case::what_a_later_version_says(r#"{"colour": "red"}"#)]
    fn a_yes_alone_changes_nothing(#[case] body: &str) {
        for status in [200, 204, 299] {
            assert_eq!(Answer::read(status, body.as_bytes()), Ok((Answer::LetIn(Grant::default()), Duration::ZERO)));
        }
    }

    #[test]
    fn a_yes_may_say_more() {
        let body = r#"{"channel": "finish-line", "label": " Mira's phone ", "destinations": {"north-bay": false},
            "recording": "by_hand", "until": "2026-05-17T18:00:00+02:00", "keep_s": 999999999}"#;
        let (answer, keep) = Answer::read(200, body.as_bytes()).unwrap();
        let grant = Grant {
            channel: Some("finish-line".parse().unwrap()),
            label: Some("Mira's phone".to_owned()),
            destinations: [("north-bay".to_owned(), false)].into(),
            recording: Some(RecordingMode::ByHand),
            until: Some(datetime!(2026-05-17 16:00 UTC)),
        };
        assert_eq!((answer, keep), (Answer::LetIn(grant), MAX_KEEP));
    }

    #[rstest]
    #[case::words(r#"{"message": "You have not paid."}"#, "You have not paid.")]
    #[case::plain("  Not on a Sunday. \nsecond line", "Not on a Sunday.")]
    #[case::a_page("<html><body>Forbidden", "")]
    #[case::another_object(r#"{"message": 7}"#, "")]
    #[case::nothing("", "")]
    #[case::control_characters("Not \u{1b}[31mred", "Not \u{fffd}[31mred")]
    fn a_no_is_a_no_whatever_it_looks_like(#[case] body: &str, #[case] words: &str) {
        for status in [400, 401, 403, 404, 499] {
            assert_eq!(Answer::read(status, body.as_bytes()), Ok(refused(words)));
        }
    }

    #[test]
    fn a_no_may_be_kept() {
        let (_, keep) = Answer::read(403, br#"{"keep_s": 30}"#).unwrap();
        assert_eq!(keep, Duration::from_secs(30));
    }

    #[rstest]
    #[case::a_page(200, "<html>", "it begins otherwise")]
    #[case::a_word(200, "OK", "it begins otherwise")]
    #[case::a_list(200, r#"["finish-line"]"#, "it begins otherwise")]
    #[case::cut(200, r#"{"channel": "fin"#, "EOF")]
    #[case::another_type(200, r#"{"channel": 7}"#, "invalid type")]
    #[case::no_channel(200, r#"{"channel": "No Name"}"#, "`channel`")]
    #[case::another_word(200, r#"{"recording": "never"}"#, "`recording` is `never`")]
    #[case::no_time(200, r#"{"until": "tomorrow"}"#, "`until` is `tomorrow`")]
    #[case::later(503, "", "503")]
    #[case::elsewhere(302, "", "sends elsewhere")]
    #[case::busy(429, "", "come again later")]
    #[case::strange(600, "", "neither")]
    fn what_cannot_be_followed_is_no_answer(#[case] status: u16, #[case] body: &str, #[case] told: &str) {
        let fault = Answer::read(status, body.as_bytes()).unwrap_err().to_string();
        assert!(fault.contains(told), "{fault}");
    }

    #[test]
    fn long_things_are_refused() {
        let label = format!(r#"{{"label": "{}"}}"#, "x".repeat(MAX_NAME + 1));
        assert!(Answer::read(200, label.as_bytes()).unwrap_err().to_string().contains("81 characters"));
        let many: Vec<String> = (0..=MAX_DESTINATIONS).map(|number| format!(r#""d{number}": true"#)).collect();
        let many = format!(r#"{{"destinations": {{{}}}}}"#, many.join(","));
        assert!(Answer::read(200, many.as_bytes()).unwrap_err().to_string().contains("`destinations`"));
    }

    proptest! {
        #[test]
        fn no_answer_is_too_strange(status in 0u16..700, body in prop::collection::vec(any::<u8>(), 0..300)) {
            let read = Answer::read(status, &body);
            let is_yes = matches!(read, Ok((Answer::LetIn(_), _)));
            prop_assert!(!is_yes || (200..300).contains(&status));
        }
    }
}
