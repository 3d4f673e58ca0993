//! Tokens of programs and consoles: who has one, and how it is taken back.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use axum::Json;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use parking_lot::Mutex;
use serde::Serialize;
use time::OffsetDateTime;
use tokio::time::timeout;
use utoipa::ToSchema;
use waverant_store::{Store, StoreError, TokenRecord, User};

use super::auth::SignedIn;
use super::{ApiError, ApiState};

/// How long the database may take to know a token; then it counts as away.
const PATIENCE: Duration = Duration::from_millis(1500);

/// While the database is away it is not asked again for so long.
const REST: Duration = Duration::from_secs(2);

/// A token that was good this long ago is still taken while the database is away.
const GOOD_FOR: Duration = Duration::from_secs(24 * 3600);

/// Tokens that are kept in mind.
const MAX_SEEN: usize = 256;

/// Tokens that were good when they were last looked up: so that the board can be seen, and a show ended,
/// while the database is away.
#[derive(Debug, Default)]
pub(super) struct SeenTokens {
    seen: Mutex<HashMap<[u8; 32], Seen>>,
    away_since: Mutex<Option<Instant>>,
}

#[derive(Clone, Debug)]
struct Seen {
    user: User,
    at: Instant,
    expires_at: Option<OffsetDateTime>,
}

impl SeenTokens {
    /// The user of a token.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not know, and neither do we.
    pub(super) async fn user_of(&self, store: &Store, token: &str) -> Result<Option<User>, StoreError> {
        let (digest, now) = (store.keychain().digest(token), OffsetDateTime::now_utc());
        let rests = self.away_since.lock().is_some_and(|since| since.elapsed() < REST);
        let found = if rests {
            Err(StoreError::Slow)
        } else {
            timeout(PATIENCE, store.user_of_token(token, now)).await.unwrap_or(Err(StoreError::Slow))
        };
        match found {
            Ok(found) => {
                *self.away_since.lock() = None;
                self.remember(digest, found.as_ref());
                Ok(found.map(|(user, _)| user))
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

    pub(super) fn forget(&self, store: &Store, token: &str) {
        self.seen.lock().remove(&store.keychain().digest(token));
    }

    fn remember(&self, digest: [u8; 32], found: Option<&(User, Option<OffsetDateTime>)>) {
        let mut seen = self.seen.lock();
        let Some((user, expires_at)) = found else {
            seen.remove(&digest);
            return;
        };
        if seen.len() >= MAX_SEEN && !seen.contains_key(&digest) {
            let oldest = seen.iter().min_by_key(|(_, seen)| seen.at).map(|(digest, _)| *digest);
            oldest.map(|oldest| seen.remove(&oldest));
        }
        seen.insert(digest, Seen { user: user.clone(), at: Instant::now(), expires_at: *expires_at });
    }

    fn recall(&self, digest: &[u8; 32], now: OffsetDateTime) -> Option<User> {
        let seen = self.seen.lock().get(digest).cloned()?;
        let is_good = seen.at.elapsed() < GOOD_FOR && seen.expires_at.is_none_or(|end| end > now);
        is_good.then_some(seen.user)
    }
}

/// A token, without what it is.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Token {
    /// Its number.
    id: u64,
    /// Who or what has it.
    label: String,
    /// When it was made.
    #[serde(with = "time::serde::rfc3339")]
    created_at: OffsetDateTime,
    /// When it ends; none if it does not by itself.
    #[serde(with = "time::serde::rfc3339::option")]
    expires_at: Option<OffsetDateTime>,
}

impl From<TokenRecord> for Token {
    fn from(record: TokenRecord) -> Self {
        let TokenRecord { id, label, created_at, expires_at } = record;
        Self { id, label, created_at, expires_at }
    }
}

/// Your tokens and signed-in consoles
#[utoipa::path(get, path = "/tokens", responses((status = 200, body = Vec<Token>)))]
pub(super) async fn list_tokens(
    State(state): State<ApiState>,
    SignedIn(user): SignedIn,
) -> Result<Json<Vec<Token>>, ApiError> {
    let tokens = state.house.store.tokens_of(user.id, OffsetDateTime::now_utc()).await?;
    Ok(Json(tokens.into_iter().map(Token::from).collect()))
}

/// Withdraw a token; what it opened is closed within five seconds
#[utoipa::path(delete, path = "/tokens/{token}", params(("token" = u64, Path)), responses((status = 204)))]
pub(super) async fn remove_token(
    State(state): State<ApiState>,
    SignedIn(user): SignedIn,
    Path(token): Path<u64>,
) -> Result<StatusCode, ApiError> {
    state.house.store.withdraw_token(user.id, token).await?;
    Ok(StatusCode::NO_CONTENT)
}
