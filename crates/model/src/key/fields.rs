use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::StreamKey;

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
    /// Both in one over TLS, if the service has a certificate.
    pub secure_whole: Option<String>,
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
    /// Whether a passphrase is to be set.
    pub has_passphrase: bool,
    /// The passphrase, where it is the key's own or a guest is to see it; else it is that of the channel.
    pub passphrase: Option<String>,
}

/// A stream key that was just made; the only answer that holds the key itself.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewKey {
    /// The key's record.
    pub key: StreamKey,
    /// What to paste.
    pub encoder: EncoderFields,
    /// What is to be known of a key that somebody chose: how soon it could be guessed.
    pub warning: Option<String>,
    /// What stands in the guest's link, if one was wanted; it is shown this once. The console takes it at
    /// `/guest#TOKEN`.
    pub guest_token: Option<String>,
}
