//! Passkeys: what is asked of them, and whether what they say is good.
//!
//! Source: WebAuthn Level 3, 7

mod ceremonies;
mod site;

use std::time::Instant;

use serde::de::DeserializeOwned;
use time::OffsetDateTime;
use waverant_model::{Passkey as ToldPasskey, PasskeyChallenge, PasskeyProof};
use waverant_store::{NewPasskey, Passkey as StoredPasskey, User};
use webauthn_rs::prelude::{Passkey, Uuid, WebauthnError};

use crate::{ApiError, ApiState};
use ceremonies::Asked;
pub(crate) use ceremonies::Ceremonies;
pub(crate) use site::Site;

/// What a browser is to be asked so that it makes a passkey for a person.
pub(crate) async fn ask_to_make(state: &ApiState, user: &User, site: Site) -> Result<PasskeyChallenge, ApiError> {
    let store = state.house.store();
    let there = at_site(&store.passkeys(user.id).await?, &site).into_iter().map(|(_, key)| key.cred_id().clone());
    let handle = Uuid::from_bytes(store.passkey_handle(user.id));
    let (options, asked) = library(&site)?
        .start_passkey_registration(handle, &user.name, &user.name, Some(there.collect()))
        .map_err(|error| ours(&error))?;
    let options = serde_json::to_value(options.public_key).map_err(|_| ApiError::Internal)?;
    Ok(begin(state, user.id, site, options, Asked::ToMake(asked)))
}

/// The passkey that a browser made, if it is what was asked for.
pub(crate) fn made(
    state: &ApiState,
    user: &User,
    label: &str,
    (ceremony, credential): (&str, serde_json::Value),
) -> Result<NewPasskey, ApiError> {
    let ceremony = state.ceremonies.take(Instant::now(), ceremony, user.id).ok_or_else(asked_too_late)?;
    let Asked::ToMake(asked) = ceremony.asked else { return Err(asked_too_late()) };
    let made = library(&ceremony.site)?.finish_passkey_registration(&read(credential)?, &asked);
    let made = made.map_err(|error| ApiError::invalid("credential", format!("it is not good here: {error}")))?;
    let (label, host) = (label.to_owned(), ceremony.site.host().to_owned());
    Ok(NewPasskey { label, host, name: made.cred_id().clone(), credential: written(&made)? })
}

/// True if this is what a passkey of the user says to what it was asked. Good once, whatever comes of it.
pub(crate) async fn is_proven(state: &ApiState, user: &User, proof: PasskeyProof) -> Result<bool, ApiError> {
    let ceremony = state.ceremonies.take(Instant::now(), &proof.ceremony, user.id).ok_or_else(asked_too_late)?;
    let Asked::ToProve(asked) = ceremony.asked else { return Err(asked_too_late()) };
    let credential = read(proof.credential)?;
    let seen = match library(&ceremony.site)?.finish_passkey_authentication(&credential, &asked) {
        Ok(seen) => seen,
        Err(error) => {
            tracing::warn!(person = user.name, %error, "what a passkey said is not good, after the right password");
            return Ok(false);
        }
    };
    // It may have been taken away since it was asked.
    let store = state.house.store();
    let there = at_site(&store.passkeys(user.id).await?, &ceremony.site);
    let Some((stored, mut passkey)) = there.into_iter().find(|(_, key)| key.cred_id() == seen.cred_id()) else {
        return Ok(false);
    };
    passkey.update_credential(&seen);
    Ok(store.use_passkey(user.id, &stored, &written(&passkey)?, OffsetDateTime::now_utc()).await?)
}

/// What a passkey of a person is to be asked.
pub(crate) async fn ask(state: &ApiState, user: &User, site: Site) -> Result<PasskeyChallenge, ApiError> {
    let there = at_site(&state.house.store().passkeys(user.id).await?, &site);
    if there.is_empty() {
        return Err(ApiError::Conflict(format!("You have no passkey that is good at {}.", site.host())));
    }
    let keys: Vec<Passkey> = there.into_iter().map(|(_, key)| key).collect();
    let (options, asked) = library(&site)?.start_passkey_authentication(&keys).map_err(|error| ours(&error))?;
    let options = serde_json::to_value(options.public_key).map_err(|_| ApiError::Internal)?;
    Ok(begin(state, user.id, site, options, Asked::ToProve(asked)))
}

/// Remembers what is asked, by its challenge.
fn begin(state: &ApiState, user_id: u64, site: Site, options: serde_json::Value, asked: Asked) -> PasskeyChallenge {
    let ceremony = options["challenge"].as_str().unwrap_or_default().to_owned();
    state.ceremonies.begin(Instant::now(), &ceremony, user_id, site, asked);
    PasskeyChallenge { ceremony, options }
}

/// The passkeys that are good at a site.
fn at_site(stored: &[StoredPasskey], site: &Site) -> Vec<(StoredPasskey, Passkey)> {
    let here = stored.iter().filter(|stored| stored.host == site.host());
    let read = here.filter_map(|stored| {
        let passkey = serde_json::from_str(&stored.credential);
        let passkey = passkey.inspect_err(|error| tracing::error!(id = stored.id, %error, "a passkey cannot be read"));
        Some((stored.clone(), passkey.ok()?))
    });
    read.collect()
}

pub(crate) fn told(stored: StoredPasskey) -> ToldPasskey {
    let StoredPasskey { id, label, host, created_at, last_used_at, .. } = stored;
    ToldPasskey { id, label, host, created_at, last_used_at }
}

fn library(site: &Site) -> Result<webauthn_rs::Webauthn, ApiError> {
    site.library().map_err(|error| ours(&error))
}

fn ours(error: &WebauthnError) -> ApiError {
    tracing::error!(%error, "passkeys cannot be asked");
    ApiError::Internal
}

fn asked_too_late() -> ApiError {
    ApiError::invalid("ceremony", "it was answered before, or five minutes ago; ask for another one")
}

fn read<T: DeserializeOwned>(credential: serde_json::Value) -> Result<T, ApiError> {
    serde_json::from_value(credential).map_err(|error| ApiError::invalid("credential", error))
}

fn written(passkey: &Passkey) -> Result<String, ApiError> {
    serde_json::to_string(passkey).map_err(|_| ApiError::Internal)
}
