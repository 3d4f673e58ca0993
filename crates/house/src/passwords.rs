//! User names and passwords of encoders that have fields for them: the user is the public part of
//! a key, the password the whole key.

use std::collections::HashMap;
use std::sync::Arc;

use time::{Duration, OffsetDateTime};
use waverant_rtmp::CredentialsAnswer;
use waverant_store::{KeyPassword, Keychain, StreamKey};

/// An answer must come within this time of its challenge.
const ANSWER_TIME: Duration = Duration::seconds(60);

/// What answers are checked by, by user name.
#[derive(Clone, Debug, Default)]
pub(crate) struct Passwords(HashMap<String, Vec<Arc<KnownPassword>>>);

#[derive(Debug)]
struct KnownPassword {
    key_id: u64,
    channel_id: u64,
    password: KeyPassword,
}

impl Passwords {
    pub(crate) fn add(&mut self, key: &StreamKey) {
        if let Some(password) = key.password.clone() {
            let known = KnownPassword { key_id: key.id, channel_id: key.channel_id, password };
            self.0.entry(key.prefix.clone()).or_default().push(Arc::new(known));
        }
    }

    pub(crate) fn remove_channel(&mut self, id: u64) {
        self.0.retain(|_, known| {
            known.retain(|known| known.channel_id != id);
            !known.is_empty()
        });
    }

    /// Salt and opaque text of a challenge. A user who is not known gets a salt as well, always the
    /// same, so that nothing is learned from it.
    pub(crate) fn challenge(&self, user: &str, keychain: &Keychain, now: OffsetDateTime) -> (String, String) {
        let known = self.0.get(user).and_then(|known| known.first()).map(|known| known.password.salt.clone());
        let salt = known.unwrap_or_else(|| keychain.salt_for_nobody(user));
        (salt, opaque(user, keychain, now.unix_timestamp()))
    }

    /// The number of the key whose password the answer shows.
    pub(crate) fn check(&self, answer: &CredentialsAnswer, keychain: &Keychain, now: OffsetDateTime) -> Option<u64> {
        let (time, _) = answer.opaque.split_once('-')?;
        let time = i64::from_str_radix(time, 16).ok()?;
        let age = now.unix_timestamp().checked_sub(time)?;
        if !(0..=ANSWER_TIME.whole_seconds()).contains(&age) || answer.opaque != opaque(&answer.user, keychain, time) {
            return None;
        }
        let known = self.0.get(&answer.user)?;
        known.iter().find(|known| answer.shows(known.password.digest.reveal())).map(|known| known.key_id)
    }
}

/// A text that only this house can make, for this user at this time; so no challenge needs to be
/// remembered.
fn opaque(user: &str, keychain: &Keychain, time: i64) -> String {
    format!("{time:x}-{}", mark(keychain, &format!("challenge of {user} at {time}")))
}

fn mark(keychain: &Keychain, text: &str) -> String {
    keychain.digest(text).iter().take(7).map(|byte| format!("{byte:02x}")).collect()
}
