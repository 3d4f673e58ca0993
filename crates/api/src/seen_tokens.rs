use std::collections::HashMap;
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use time::OffsetDateTime;
use tokio::time::timeout;
use waverant_store::{Store, StoreError, TokenHolder};

use crate::rights::Caller;

/// How long the database may take to know a token; then it counts as away.
const PATIENCE: Duration = Duration::from_millis(1500);

/// While the database is away it is not asked again for so long.
const REST: Duration = Duration::from_secs(2);

/// A token that was good this long ago is still taken while the database is away.
const GOOD_FOR: Duration = Duration::from_secs(24 * 3600);

/// How often it is noted that a token is used.
const NOTED_EVERY: Duration = Duration::from_secs(60);

/// Tokens that are kept in mind.
const MAX_SEEN: usize = 256;

/// Tokens that were good when they were last looked up: so that the board can be seen, and a show ended,
/// while the database is away.
#[derive(Debug, Default)]
pub(super) struct SeenTokens {
    seen: Mutex<HashMap<[u8; 32], Seen>>,
    away_since: Mutex<Option<Instant>>,
    /// When it was last noted that a token is used, by its number.
    noted: Mutex<HashMap<u64, Instant>>,
}

#[derive(Clone, Debug)]
struct Seen {
    holder: TokenHolder,
    at: Instant,
}

impl SeenTokens {
    /// Who holds a token.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not know, and neither do we.
    pub(super) async fn holder_of(&self, store: &Store, token: &str) -> Result<Option<TokenHolder>, StoreError> {
        let (digest, now) = (store.keychain().digest(token), OffsetDateTime::now_utc());
        let rests = self.away_since.lock().is_some_and(|since| since.elapsed() < REST);
        let found = if rests {
            Err(StoreError::Slow)
        } else {
            timeout(PATIENCE, store.token_holder(token, now)).await.unwrap_or(Err(StoreError::Slow))
        };
        match found {
            Ok(found) => {
                *self.away_since.lock() = None;
                self.remember(digest, found.as_ref());
                Ok(found)
            }
            Err(error) if error.is_unavailable() => {
                if !rests {
                    *self.away_since.lock() = Some(Instant::now());
                }
                self.recall(&digest, now).map(Some).ok_or(error)
            }
            Err(error) => Err(error),
        }
    }

    /// True if a token was good when it was last looked up.
    pub(super) fn was_good(&self, store: &Store, token: &str) -> bool {
        self.seen.lock().contains_key(&store.keychain().digest(token))
    }

    pub(super) fn forget(&self, store: &Store, token: &str) {
        self.seen.lock().remove(&store.keychain().digest(token));
    }

    /// Forgets all tokens of a person.
    pub(super) fn forget_person(&self, name: &str) {
        self.seen.lock().retain(|_, seen| !seen.holder.user.name.eq_ignore_ascii_case(name));
    }

    /// Forgets a token by its number.
    pub(super) fn forget_number(&self, id: u64) {
        self.seen.lock().retain(|_, seen| seen.holder.token_id != id);
    }

    /// Forgets all tokens of a person but the one by which it asks.
    pub(super) fn forget_others(&self, caller: &Caller) {
        let is_other = |seen: &Seen| seen.holder.user.id == caller.user.id && seen.holder.token_id != caller.token_id;
        self.seen.lock().retain(|_, seen| !is_other(seen));
    }

    /// True if it is to be noted that a token is used: not more than once a minute.
    pub(super) fn is_use_due(&self, token_id: u64) -> bool {
        let (mut noted, now) = (self.noted.lock(), Instant::now());
        noted.retain(|_, at| now.saturating_duration_since(*at) < NOTED_EVERY);
        if noted.len() >= MAX_SEEN || noted.contains_key(&token_id) {
            return false;
        }
        noted.insert(token_id, now);
        true
    }

    fn remember(&self, digest: [u8; 32], found: Option<&TokenHolder>) {
        let mut seen = self.seen.lock();
        let Some(holder) = found else {
            seen.remove(&digest);
            return;
        };
        if seen.len() >= MAX_SEEN && !seen.contains_key(&digest) {
            let oldest = seen.iter().min_by_key(|(_, seen)| seen.at).map(|(digest, _)| *digest);
            oldest.map(|oldest| seen.remove(&oldest));
        }
        seen.insert(digest, Seen { holder: holder.clone(), at: Instant::now() });
    }

    fn recall(&self, digest: &[u8; 32], now: OffsetDateTime) -> Option<TokenHolder> {
        let seen = self.seen.lock().get(digest).cloned()?;
        let is_good = seen.at.elapsed() < GOOD_FOR && seen.holder.expires_at.is_none_or(|end| end > now);
        is_good.then_some(seen.holder)
    }
}
