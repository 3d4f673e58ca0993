use std::collections::BTreeSet;
use std::fmt;
use std::str::FromStr;

use serde::de::{Error, MapAccess, Visitor};
use serde::ser::SerializeMap;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use toml::{Table, Value};
use waverant_model::Hidden;

/// The longest reference.
const MAX_REFERENCE: usize = 512;

/// Where a secret is kept that does not stand in the file.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Reference {
    /// In a file below the folder of secrets.
    File(String),
    /// In a variable of the environment of who applies the set-up.
    Environment(String),
}

impl Reference {
    /// A file below the folder of secrets: never above or beside it.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn file(path: &str) -> Result<Self, String> {
        let is_plain = |part: &str| !matches!(part, "" | "." | "..") && !part.contains(['\\', '\0']);
        if path.len() > MAX_REFERENCE || !path.split('/').all(is_plain) {
            return Err(format!("`{path}` stands where a file below the folder of secrets was expected"));
        }
        Ok(Self::File(path.to_owned()))
    }

    /// A variable of the environment.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn environment(name: &str) -> Result<Self, String> {
        let is_legal = |byte: u8| byte.is_ascii_alphanumeric() || byte == b'_';
        if name.is_empty() || name.len() > MAX_REFERENCE || !name.bytes().all(is_legal) {
            return Err(format!("`{name}` stands where the name of a variable was expected, as in PLOVIO_KEY"));
        }
        Ok(Self::Environment(name.to_owned()))
    }

    /// What gives it, in words.
    pub fn advice(&self) -> String {
        match self {
            Self::File(path) => format!("put it into the file `{path}` in the folder that --secrets names"),
            Self::Environment(name) => format!("set the variable {name}"),
        }
    }
}

impl FromStr for Reference {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text.split_once(':') {
            Some(("file", path)) => Self::file(path),
            Some(("env", name)) => Self::environment(name),
            _ => Err(format!("`{text}` stands where file:… or env:… was expected")),
        }
    }
}

/// What a text refers to, as far as it is TOML.
pub fn references(text: &str) -> BTreeSet<Reference> {
    fn walk(value: &Value, found: &mut BTreeSet<Reference>) {
        match value {
            Value::Array(items) => items.iter().for_each(|item| walk(item, found)),
            Value::Table(table) => {
                let only = |name: &str| table.get(name).filter(|_| table.len() == 1).and_then(Value::as_str);
                found.extend(only("file").and_then(|path| Reference::file(path).ok()));
                found.extend(only("env").and_then(|name| Reference::environment(name).ok()));
                table.iter().for_each(|(_, inner)| walk(inner, found));
            }
            _ => {}
        }
    }
    let mut found = BTreeSet::new();
    walk(&Value::Table(text.parse::<Table>().unwrap_or_default()), &mut found);
    found
}

impl fmt::Display for Reference {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::File(path) => write!(out, "file:{path}"),
            Self::Environment(name) => write!(out, "env:{name}"),
        }
    }
}

/// A name as part of a path: what would be another folder, or nothing, is written with percent signs.
pub fn file_name_of(name: &str) -> String {
    let is_plain = |byte: u8| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_' | b' ') || byte >= 0x80;
    let mut written = Vec::with_capacity(name.len());
    for byte in name.bytes() {
        if is_plain(byte) || (byte == b'.' && !written.is_empty()) {
            written.push(byte);
        } else {
            written.extend(format!("%{byte:02X}").bytes());
        }
    }
    String::from_utf8_lossy(&written).into_owned()
}

/// A secret of the file: a text, `{ file = "…" }` or `{ env = "…" }`.
#[derive(Clone, PartialEq, Eq)]
pub enum SecretText {
    /// It stands in the file itself.
    Given(Hidden),
    /// It is kept elsewhere.
    Kept(Reference),
}

impl fmt::Debug for SecretText {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Given(_) => out.write_str("Given(…)"),
            Self::Kept(reference) => write!(out, "Kept({reference})"),
        }
    }
}

impl<'de> Deserialize<'de> for SecretText {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        deserializer.deserialize_any(SecretVisitor)
    }
}

struct SecretVisitor;

impl<'de> Visitor<'de> for SecretVisitor {
    type Value = SecretText;

    fn expecting(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(r#"a text, { file = "…" } or { env = "…" }"#)
    }

    fn visit_str<E: Error>(self, text: &str) -> Result<SecretText, E> {
        Ok(SecretText::Given(Hidden::from(text.to_owned())))
    }

    fn visit_map<M: MapAccess<'de>>(self, mut map: M) -> Result<SecretText, M::Error> {
        let wrong = || Error::custom(r#"one of { file = "…" } and { env = "…" } was expected"#);
        let (kind, value) = map.next_entry::<String, String>()?.ok_or_else(wrong)?;
        let reference = match kind.as_str() {
            "file" => Reference::file(&value),
            "env" => Reference::environment(&value),
            _ => return Err(wrong()),
        };
        let reference = reference.map_err(Error::custom)?;
        match map.next_key::<String>()? {
            Some(_) => Err(wrong()),
            None => Ok(SecretText::Kept(reference)),
        }
    }
}

impl Serialize for SecretText {
    /// As a reference; one that is given is not written.
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(Some(1))?;
        match self {
            Self::Given(_) => {}
            Self::Kept(Reference::File(path)) => map.serialize_entry("file", path)?,
            Self::Kept(Reference::Environment(name)) => map.serialize_entry("env", name)?,
        }
        map.end()
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("plovio", "plovio")]
    #[case("..", "%2E.")]
    #[case("a/b", "a%2Fb")]
    #[case("Club chat", "Club chat")]
    #[case("Rödö", "Rödö")]
    #[case("50 %", "50 %25")]
    fn names_become_parts_of_a_path(#[case] name: &str, #[case] expected: &str) {
        assert_eq!(file_name_of(name), expected);
        assert!(Reference::file(&format!("destinations/{expected}/key")).is_ok());
    }

    #[test]
    fn all_references_of_a_text_are_found() {
        let text = r#"
            [destinations.plovio]
            key = { file = "plovio/key" }
            srt.passphrase = { env = "PLOVIO" }
            [[channels.weir.keys]]
            key = { file = "../key" }
            [[channels.weir.keys]]
            key = { env = "VAN" }
        "#;
        let found: Vec<String> = references(text).iter().map(ToString::to_string).collect();
        assert_eq!(found, ["file:plovio/key", "env:PLOVIO", "env:VAN"]);
        assert!(found.iter().all(|text| text.parse::<Reference>().unwrap().to_string() == *text));
        assert!("file:../key".parse::<Reference>().is_err());
        assert!(references("no = TOML").is_empty());
    }

    #[rstest]
    #[case("../key")]
    #[case("/etc/passwd")]
    #[case("a//b")]
    #[case("")]
    #[case("a/./b")]
    fn no_reference_leads_out_of_its_folder(#[case] path: &str) {
        assert!(Reference::file(path).is_err());
    }
}
