//! What a channel asks of encoders and players over SRT, or a destination of us, as calls give and
//! answer it.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use waverant_srt::Passphrase;
use waverant_store::{Secret, SrtTerms};

use super::ApiError;

/// Less than this no line keeps.
const MIN_LATENCY_MS: u16 = 20;

/// What both ends of an SRT connection are to keep.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Srt {
    /// How long what is lost is waited for; the other end may ask for more.
    pub(crate) latency_ms: u16,
    /// Whether a passphrase is asked for; the passphrase itself is in no answer.
    pub(crate) has_passphrase: bool,
}

impl From<SrtTerms> for Srt {
    fn from(terms: SrtTerms) -> Self {
        Self { latency_ms: terms.latency_ms, has_passphrase: terms.passphrase.is_some() }
    }
}

/// What is to change; what is left out stays. Holds from the next connection.
#[derive(Debug, Default, Deserialize, ToSchema)]
pub(crate) struct ChangeSrt {
    /// How long what is lost is waited for, 20 to 65535; about four round trips.
    latency_ms: Option<u16>,
    /// The passphrase, 10 to 79 bytes; an empty text takes it away.
    passphrase: Option<String>,
}

impl ChangeSrt {
    /// True if nothing is to change.
    pub(super) fn is_empty(&self) -> bool {
        self.latency_ms.is_none() && self.passphrase.is_none()
    }

    /// The terms after the change.
    pub(super) fn apply(self, present: SrtTerms) -> Result<SrtTerms, ApiError> {
        let latency_ms = self.latency_ms.unwrap_or(present.latency_ms);
        if latency_ms < MIN_LATENCY_MS {
            let text = format!("{latency_ms} is not between {MIN_LATENCY_MS} and {}", u16::MAX);
            return Err(ApiError::invalid("srt.latency_ms", text));
        }
        let passphrase = match self.passphrase.as_deref() {
            None => present.passphrase,
            Some("") => None,
            Some(text) => {
                Passphrase::new(text).map_err(|error| ApiError::invalid("srt.passphrase", error))?;
                Some(Secret::new(text))
            }
        };
        Ok(SrtTerms { latency_ms, passphrase })
    }
}
