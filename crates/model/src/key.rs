//! Stream keys.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

/// What a key opens a channel for.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum KeyRight {
    /// Publishing.
    #[default]
    Publish,
    /// Watching over RTMP.
    View,
}

/// A stream key without the key.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct StreamKey {
    /// The key's number.
    pub id: u64,
    /// What it opens the channel for.
    pub right: KeyRight,
    /// 0 is the highest; an encoder with a key of lower rank is a backup.
    pub rank: u8,
    /// For whom it was made.
    pub label: String,
    /// Its public part.
    pub prefix: String,
    /// When it was made.
    #[serde(with = "time::serde::rfc3339")]
    pub created_at: OffsetDateTime,
    /// When it stops opening the gate.
    #[serde(with = "time::serde::rfc3339::option")]
    pub expires_at: Option<OffsetDateTime>,
    /// Addresses and networks that it may be used from; none for anywhere.
    pub allowed_from: Vec<String>,
}

/// What goes into the two fields of an encoder or player.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EncoderFields {
    /// The server field.
    pub server: String,
    /// The server field over TLS, if the service has a certificate.
    pub secure_server: Option<String>,
    /// The key field.
    pub key: String,
    /// The server field where there are fields for user name and password. The password is the key.
    pub guarded_server: String,
    /// The user field there.
    pub user: String,
    /// Both in one, for devices with one field.
    pub whole: String,
    /// What goes into an encoder's or a player's fields for SRT.
    pub srt: SrtFields,
}

/// What goes into the fields for SRT.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SrtFields {
    /// The address; the encoder is the caller.
    pub address: String,
    /// The stream id.
    pub stream_id: String,
    /// The same for programs that have no other way to say what they want.
    pub long_stream_id: String,
    /// Address and stream id in one, for devices with one field.
    pub whole: String,
    /// The latency to set, in milliseconds.
    pub latency_ms: u16,
    /// Whether the channel's passphrase is to be set.
    pub has_passphrase: bool,
}

/// A stream key that was just made; the only answer that holds the key itself.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewKey {
    /// The key's record.
    pub key: StreamKey,
    /// What to paste.
    pub encoder: EncoderFields,
}

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
    /// When it stops opening the gate.
    #[serde(default, with = "time::serde::rfc3339::option")]
    pub expires_at: Option<OffsetDateTime>,
    /// Addresses and networks that it may be used from, as in `192.0.2.7` or `192.0.2.0/24`, up to 8;
    /// none for anywhere.
    #[serde(default)]
    pub allowed_from: Vec<String>,
}
