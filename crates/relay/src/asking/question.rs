use std::net::SocketAddr;

use serde::Serialize;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;

use super::UnknownKeys;
use crate::{KeyRight, Protocol, Secret, printable};

/// The version of what questions look like. It rises when something is taken away or means something else.
const VERSION: u32 = 1;

/// Characters of a key that is not known, where only its first are told.
const PREFIX: usize = 7;

/// What is told of names that callers made up, in characters.
const MAX_NAME: usize = 300;

/// Whose key it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum AskedKey {
    /// One that is known here.
    Known {
        /// Its number.
        id: u64,
        /// For whom it was made.
        label: String,
    },
    /// One that is not: what was sent in its place.
    Unknown(Secret),
}

/// Why it is asked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Purpose {
    /// Somebody wants to come in.
    Enter,
    /// Somebody is in, and wants to stay.
    Stay,
    /// Somebody tries how it answers; nobody comes in by it.
    Try,
}

/// About whom another system is asked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Question {
    /// What it wants to do.
    pub right: KeyRight,
    /// By what it came.
    pub protocol: Protocol,
    /// Where it comes from.
    pub peer: SocketAddr,
    /// What it calls itself.
    pub encoder: String,
    /// The channel of its key, if that is known.
    pub channel: Option<String>,
    /// What it called its stream, without the key; none where that could be the key.
    pub stream_name: Option<String>,
    /// Whose key it shows.
    pub key: AskedKey,
}

/// What a question is told with.
#[derive(Clone, Copy, Debug)]
pub struct Telling<'a> {
    /// Why it is asked.
    pub purpose: Purpose,
    /// When.
    pub at: OffsetDateTime,
    /// The question's own number, by which one that comes twice is known.
    pub id: &'a str,
    /// The session that it is in, if it is in one.
    pub session: Option<u64>,
    /// What is told of keys that are not known.
    pub unknown_keys: UnknownKeys,
    /// The keyed hash of a key that is not known, in hexadecimal.
    pub digest: &'a str,
}

#[derive(Serialize)]
struct Told<'a> {
    version: u32,
    id: &'a str,
    asked_at: String,
    purpose: &'static str,
    right: &'static str,
    protocol: &'static str,
    address: String,
    port: u16,
    encoder: &'a str,
    channel: Option<&'a str>,
    stream_name: Option<String>,
    session: Option<u64>,
    key: ToldKey<'a>,
}

#[derive(Serialize)]
struct ToldKey<'a> {
    is_known: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    number: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    label: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    prefix: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    digest: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    whole: Option<&'a str>,
}

impl Question {
    /// The question as JSON.
    pub fn body(&self, telling: &Telling<'_>) -> Vec<u8> {
        let told = Told {
            version: VERSION,
            id: telling.id,
            asked_at: telling.at.format(&Rfc3339).unwrap_or_default(),
            purpose: match telling.purpose {
                Purpose::Enter => "enter",
                Purpose::Stay => "stay",
                Purpose::Try => "try",
            },
            right: match self.right {
                KeyRight::Publish => "publish",
                KeyRight::View => "view",
            },
            protocol: self.protocol.name(),
            address: self.peer.ip().to_canonical().to_string(),
            port: self.peer.port(),
            encoder: &self.encoder,
            channel: self.channel.as_deref(),
            stream_name: self.stream_name.as_deref().map(|name| printable(name, MAX_NAME).into_owned()),
            session: telling.session,
            key: self.told_key(telling),
        };
        // Nothing in it can fail.
        serde_json::to_vec(&told).unwrap_or_default()
    }

    fn told_key<'a>(&'a self, telling: &Telling<'a>) -> ToldKey<'a> {
        let nothing = ToldKey { is_known: false, number: None, label: None, prefix: None, digest: None, whole: None };
        match &self.key {
            AskedKey::Known { id, label } => {
                ToldKey { is_known: true, number: Some(*id), label: Some(label), ..nothing }
            }
            AskedKey::Unknown(key) => match telling.unknown_keys {
                UnknownKeys::NotAsked => nothing,
                UnknownKeys::Prefix => ToldKey { prefix: Some(prefix_of(key.reveal())), ..nothing },
                UnknownKeys::Digest => ToldKey { digest: Some(telling.digest), ..nothing },
                UnknownKeys::Whole => ToldKey { whole: Some(key.reveal()), ..nothing },
            },
        }
    }
}

/// The first characters of a key; of a short one no more than half.
fn prefix_of(key: &str) -> String {
    let count = PREFIX.min(key.chars().count() / 2);
    printable(&key.chars().take(count).collect::<String>(), PREFIX).into_owned()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use time::macros::datetime;

    use super::*;

    fn body(question: &Question, unknown_keys: UnknownKeys) -> serde_json::Value {
        let telling = Telling {
            purpose: Purpose::Enter,
            at: datetime!(2026-05-17 12:00 UTC),
            id: "ask_1",
            session: None,
            unknown_keys,
            digest: "00ff",
        };
        serde_json::from_slice(&question.body(&telling)).unwrap()
    }

    fn question(key: AskedKey) -> Question {
        Question {
            right: KeyRight::Publish,
            protocol: Protocol::Srt,
            peer: "[::ffff:192.0.2.7]:4711".parse().unwrap(),
            encoder: "SRT 1.5.0".to_owned(),
            channel: Some("finish-line".to_owned()),
            stream_name: Some("…?from=van".to_owned()),
            key,
        }
    }

    #[test]
    fn a_known_key_is_told_by_its_label() {
        let told = body(&question(AskedKey::Known { id: 7, label: "Harbour van".to_owned() }), UnknownKeys::Whole);
        let expected = serde_json::json!({
            "version": 1, "id": "ask_1", "asked_at": "2026-05-17T12:00:00Z", "purpose": "enter", "right": "publish",
            "protocol": "srt", "address": "192.0.2.7", "port": 4711, "encoder": "SRT 1.5.0", "channel": "finish-line",
            "stream_name": "…?from=van", "session": null,
            "key": { "is_known": true, "number": 7, "label": "Harbour van" },
        });
        assert_eq!(told, expected);
    }

    #[rstest]
    #[case::nothing(UnknownKeys::NotAsked, serde_json::json!({ "is_known": false }))]
    #[case::prefix(UnknownKeys::Prefix, serde_json::json!({ "is_known": false, "prefix": "member-" }))]
    #[case::digest(UnknownKeys::Digest, serde_json::json!({ "is_known": false, "digest": "00ff" }))]
    #[case::whole(UnknownKeys::Whole, serde_json::json!({ "is_known": false, "whole": "member-0815-secre" }))]
    fn an_unknown_key_is_told_as_the_rule_says(#[case] rule: UnknownKeys, #[case] expected: serde_json::Value) {
        let question = question(AskedKey::Unknown(Secret::new("member-0815-secre")));
        assert_eq!(body(&question, rule)["key"], expected);
        assert!(!format!("{question:?}").contains("0815"), "no log tells it");
    }

    #[test]
    fn of_a_short_key_half_is_told() {
        assert_eq!(["", "ä", "abcd", "öffentlich"].map(prefix_of), ["", "", "ab", "öffen"]);
    }
}
