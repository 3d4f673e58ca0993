use waverant_model::ChangeSrt;
use waverant_relay::Secret;
use waverant_srt::Passphrase;
use waverant_store::SrtTerms;

use crate::HouseError;

/// Less than this no line keeps.
const MIN_LATENCY_MS: u16 = 20;

/// True if nothing is to change.
pub(super) fn is_empty(change: &ChangeSrt) -> bool {
    change.latency_ms.is_none() && change.passphrase.is_none()
}

/// The terms after a change.
pub(super) fn changed(change: ChangeSrt, present: SrtTerms) -> Result<SrtTerms, HouseError> {
    let latency_ms = change.latency_ms.unwrap_or(present.latency_ms);
    if latency_ms < MIN_LATENCY_MS {
        let text = format!("{latency_ms} is not between {MIN_LATENCY_MS} and {}", u16::MAX);
        return Err(HouseError::invalid("srt.latency_ms", text));
    }
    let passphrase = match change.passphrase.as_ref().map(|text| text.reveal()) {
        None => present.passphrase,
        Some("") => None,
        Some(text) => {
            Passphrase::new(text).map_err(|error| HouseError::invalid("srt.passphrase", error))?;
            Some(Secret::new(text))
        }
    };
    Ok(SrtTerms { latency_ms, passphrase })
}
