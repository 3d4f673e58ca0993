use serde::{Deserialize, Deserializer, Serialize, Serializer, de, ser};
use time::format_description::well_known::Rfc3339;
use time::{OffsetDateTime, UtcOffset};
use toml::Value;

/// A moment, in UTC once it is read. It is written with its offset, as TOML has them (`2026-05-17T18:00:00Z`); as a text it is taken too.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Moment(pub OffsetDateTime);

impl<'de> Deserialize<'de> for Moment {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let found = Value::deserialize(deserializer)?;
        let text = match &found {
            Value::String(text) => text.clone(),
            Value::Datetime(moment) => moment.to_string(),
            other => other.to_string(),
        };
        let wrong = || {
            de::Error::custom(format!(
                "`{text}` stands where a moment with its offset was expected, as in 2026-05-17T18:00:00Z"
            ))
        };
        OffsetDateTime::parse(&text, &Rfc3339).map(|at| Self(at.to_offset(UtcOffset::UTC))).map_err(|_| wrong())
    }
}

impl Serialize for Moment {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let text = self.0.format(&Rfc3339).map_err(ser::Error::custom)?;
        text.parse::<toml::value::Datetime>().map_err(ser::Error::custom)?.serialize(serializer)
    }
}
