use serde::{Deserialize, Deserializer, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use super::{KeyRight, KeyRules, OpenHours, Protocol, ShowThen};
use crate::Hidden;

/// A moment, as in `2026-05-17T18:00:00Z`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(transparent)]
pub struct Moment(#[serde(with = "time::serde::rfc3339")] pub OffsetDateTime);

/// A stream key to be made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AddKey {
    /// For whom: a person or a device.
    pub label: String,
    /// What it opens the channel for. Default `publish`.
    #[serde(default)]
    pub right: KeyRight,
    /// 0 is the highest, and the default; an encoder with a key of lower rank, up to 9, is a backup.
    #[serde(default)]
    pub rank: u8,
    /// A key of one's own choosing, or one that encoders have already: 8 to 128 letters, digits and any of
    /// `-._~!$'()*+:=@[]`. Made if nobody says, which is safer.
    #[serde(default)]
    pub key: Option<Hidden>,
    /// When and how it opens.
    #[serde(flatten)]
    pub rules: KeyRules,
    /// A passphrase for SRT of its own, 10 to 79 bytes, in the place of the channel's.
    #[serde(default)]
    pub passphrase: Option<Hidden>,
    /// Whether such a passphrase is to be made.
    #[serde(default)]
    pub makes_passphrase: bool,
    /// Until when a guest's link is to show it; up to 90 days from now. There is no link if nobody says.
    #[serde(default, with = "time::serde::rfc3339::option")]
    pub guest_link_until: Option<OffsetDateTime>,
}

/// Stream keys to be made, all or none.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AddKeys {
    /// Up to 500.
    pub keys: Vec<AddKey>,
}

/// What is to change of a key; what is left out stays, and what is null is taken away. It leaves a show alone that
/// the key opened: that ends when it was to end, or later.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct ChangeKey {
    /// For whom.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// 0 is the highest; holds from the next connection.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rank: Option<u8>,
    /// When it begins to open the gate.
    #[serde(default, deserialize_with = "given", skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Moment>)]
    pub starts_at: Option<Option<Moment>>,
    /// When it stops.
    #[serde(default, deserialize_with = "given", skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Moment>)]
    pub expires_at: Option<Option<Moment>>,
    /// The hours of a week at which it opens.
    #[serde(default, deserialize_with = "given", skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<OpenHours>)]
    pub hours: Option<Option<OpenHours>>,
    /// Addresses and networks that it may be used from; none for anywhere.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub allowed_from: Option<Vec<String>>,
    /// The protocols over which it opens; none for all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub protocols: Option<Vec<Protocol>>,
    /// How many may use it at once.
    #[serde(default, deserialize_with = "given", skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<u32>)]
    pub most_connections: Option<Option<u32>>,
    /// What becomes of a show that it let in, when its time is over.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub show_when_over: Option<ShowThen>,
    /// The passphrase for SRT, 10 to 79 bytes; an empty text takes it away. Holds from the next connection.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub passphrase: Option<Hidden>,
}

/// How a key is renewed: another one opens with all that is said of the old, and both do until a moment.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RenewKey {
    /// Until when the old one opens too; up to 90 days from now. A show that it opened goes on then.
    #[serde(with = "time::serde::rfc3339")]
    pub both_until: OffsetDateTime,
    /// Until when a guest's link is to show the new one. There is no link if nobody says.
    #[serde(default, with = "time::serde::rfc3339::option")]
    pub guest_link_until: Option<OffsetDateTime>,
}

/// How a key is retired: it opens nothing any more.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RetireKey {
    /// What becomes of a show that it opened. One that goes on does so until its encoder leaves.
    pub show: ShowThen,
}

/// A field that stands there, even if it is null.
fn given<'a, T: Deserialize<'a>, D: Deserializer<'a>>(deserializer: D) -> Result<Option<Option<T>>, D::Error> {
    Option::deserialize(deserializer).map(Some)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_null_is_taken_away_and_what_is_left_out_stays() {
        let change: ChangeKey = serde_json::from_str(r#"{"expires_at": null, "hours": null, "rank": 2}"#).unwrap();
        assert_eq!((change.expires_at, change.starts_at, change.rank), (Some(None), None, Some(2)));
        assert_eq!(serde_json::to_string(&change).unwrap(), r#"{"rank":2,"expires_at":null,"hours":null}"#);
        let at = time::macros::datetime!(2026-05-17 18:00 UTC);
        let change = ChangeKey { starts_at: Some(Some(Moment(at))), ..ChangeKey::default() };
        let told = serde_json::to_string(&change).unwrap();
        assert_eq!(told, r#"{"starts_at":"2026-05-17T18:00:00Z"}"#);
        assert_eq!(serde_json::from_str::<ChangeKey>(&told).unwrap().starts_at, Some(Some(Moment(at))));
    }
}
