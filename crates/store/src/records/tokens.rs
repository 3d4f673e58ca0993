use std::fmt::Display;

use sqlx::mysql::MySqlRow;
use sqlx::{AssertSqlSafe, Row};
use time::OffsetDateTime;
use waverant_relay::{AddressRange, Role, Scope, Secret};

use super::users::{USER, role_of, user_from};
use super::{fitted, optional_time_in, time_in, to_column};
use crate::secrets::new_token;
use crate::{Store, StoreError, User};

/// What the token of a signed-in console is called.
pub const CONSOLE: &str = "console";

/// Tokens of programs of one person.
const MOST_TOKENS: u32 = 200;

/// Signed-in consoles of one person; the oldest beyond are signed out.
const MOST_CONSOLES: u32 = 100;

/// A token to be made.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct NewToken {
    /// Who or what has it.
    pub label: String,
    /// What it is kept within.
    pub scope: Scope,
    /// From where alone it opens something; from everywhere if there are none.
    pub addresses: Vec<AddressRange>,
    /// When it ends; none if it does not by itself.
    pub expires_at: Option<OffsetDateTime>,
}

/// A token as it is kept: not the token itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TokenRecord {
    /// Its number.
    pub id: u64,
    /// Who or what has it.
    pub label: String,
    /// What it is kept within.
    pub scope: Scope,
    /// From where alone it opens something; from everywhere if there are none.
    pub addresses: Vec<AddressRange>,
    /// When it was made.
    pub created_at: OffsetDateTime,
    /// When it ends.
    pub expires_at: Option<OffsetDateTime>,
    /// What used it last, as it calls itself.
    pub device: String,
    /// From where it was used last.
    pub address: String,
    /// When it was used last, to a minute; none if it never was.
    pub last_used_at: Option<OffsetDateTime>,
}

/// From where and by what a token is used.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TokenUse {
    /// What uses it, as it calls itself.
    pub device: String,
    /// From where.
    pub address: String,
    /// When.
    pub at: OffsetDateTime,
}

/// Who holds a token.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TokenHolder {
    /// The token's number.
    pub token_id: u64,
    /// The person to whom it belongs.
    pub user: User,
    /// Who or what has it.
    pub label: String,
    /// What it is kept within.
    pub scope: Scope,
    /// From where alone it opens something; from everywhere if there are none.
    pub addresses: Vec<AddressRange>,
    /// When it ends; none if it does not by itself.
    pub expires_at: Option<OffsetDateTime>,
}

fn scope_from(row: &MySqlRow) -> Result<Scope, StoreError> {
    let (most, channels): (Option<String>, Option<String>) = (row.try_get("most")?, row.try_get("channels")?);
    let numbers = |text: String| text.split(',').filter_map(|number| number.parse().ok()).collect();
    Ok(Scope { most: most.as_deref().map(role_of), channels: channels.map(numbers) })
}

/// A range that cannot be read fits nobody, and so keeps the others.
fn addresses_from(row: &MySqlRow) -> Result<Vec<AddressRange>, StoreError> {
    let text: String = row.try_get("addresses")?;
    Ok(text.split(',').filter_map(|range| range.parse().ok()).collect())
}

fn with_commas<T: Display>(parts: &[T]) -> String {
    parts.iter().map(T::to_string).collect::<Vec<_>>().join(",")
}

impl Store {
    /// Makes a token for a user; it is not kept and cannot be shown again.
    ///
    /// # Errors
    /// [`StoreError::TooMany`] of programs, or if the database does not answer.
    pub async fn add_token(&self, user_id: u64, wanted: &NewToken, now: OffsetDateTime) -> Result<Secret, StoreError> {
        let token = new_token();
        sqlx::query("DELETE FROM tokens WHERE expires_at < ?").bind(to_column(now)).execute(&self.pool).await?;
        self.make_room(user_id, &wanted.label).await?;
        sqlx::query(
            "INSERT INTO tokens (user_id, label, digest, created_at, expires_at, most, channels, addresses) \
             VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        )
        .bind(user_id)
        .bind(fitted(&wanted.label, 96))
        .bind(&self.keychain.digest(token.reveal())[..])
        .bind(to_column(now))
        .bind(wanted.expires_at.map(to_column))
        .bind(wanted.scope.most.map(Role::word))
        .bind(wanted.scope.channels.as_ref().map(|channels| with_commas(channels)))
        .bind(with_commas(&wanted.addresses))
        .execute(&self.pool)
        .await?;
        Ok(token)
    }

    async fn make_room(&self, user_id: u64, label: &str) -> Result<(), StoreError> {
        if label == CONSOLE {
            let oldest = "DELETE FROM tokens WHERE user_id = ? AND label = ? AND id < (SELECT MIN(id) FROM \
                (SELECT id FROM tokens WHERE user_id = ? AND label = ? ORDER BY id DESC LIMIT ?) AS newest)";
            let oldest = sqlx::query(oldest).bind(user_id).bind(label).bind(user_id).bind(label);
            oldest.bind(MOST_CONSOLES - 1).execute(&self.pool).await?;
            return Ok(());
        }
        let count: i64 = sqlx::query_scalar("SELECT COUNT(*) FROM tokens WHERE user_id = ? AND label <> ?")
            .bind(user_id)
            .bind(CONSOLE)
            .fetch_one(&self.pool)
            .await?;
        if count >= i64::from(MOST_TOKENS) {
            Err(StoreError::TooMany { what: "tokens", most: MOST_TOKENS })
        } else {
            Ok(())
        }
    }

    /// Who holds a token, if it is valid at `now`.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn token_holder(&self, token: &str, now: OffsetDateTime) -> Result<Option<TokenHolder>, StoreError> {
        let row = sqlx::query(AssertSqlSafe(format!(
            "SELECT {USER}, tokens.id AS token_id, label, expires_at, most, channels, addresses \
             FROM tokens JOIN users ON users.id = tokens.user_id \
             WHERE digest = ? AND (expires_at IS NULL OR expires_at > ?)"
        )))
        .bind(&self.keychain.digest(token)[..])
        .bind(to_column(now))
        .fetch_optional(&self.pool)
        .await?;
        let read = |row: MySqlRow| {
            Ok(TokenHolder {
                token_id: row.try_get("token_id")?,
                user: user_from(&row)?,
                label: row.try_get("label")?,
                scope: scope_from(&row)?,
                addresses: addresses_from(&row)?,
                expires_at: optional_time_in(&row, "expires_at")?,
            })
        };
        row.map(read).transpose()
    }

    /// The tokens of a user that are valid at `now`, the newest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn tokens_of(&self, user_id: u64, now: OffsetDateTime) -> Result<Vec<TokenRecord>, StoreError> {
        let rows = sqlx::query(
            "SELECT id, label, created_at, expires_at, device, address, last_used_at, most, channels, addresses FROM tokens \
             WHERE user_id = ? AND (expires_at IS NULL OR expires_at > ?) ORDER BY id DESC",
        )
        .bind(user_id)
        .bind(to_column(now))
        .fetch_all(&self.pool)
        .await?;
        let read = |row: &MySqlRow| {
            Ok(TokenRecord {
                id: row.try_get("id")?,
                label: row.try_get("label")?,
                scope: scope_from(row)?,
                addresses: addresses_from(row)?,
                created_at: time_in(row, "created_at")?,
                expires_at: optional_time_in(row, "expires_at")?,
                device: row.try_get("device")?,
                address: row.try_get("address")?,
                last_used_at: optional_time_in(row, "last_used_at")?,
            })
        };
        rows.iter().map(read).collect()
    }

    /// Notes how a token was used.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn note_token_use(&self, id: u64, used: &TokenUse) -> Result<(), StoreError> {
        sqlx::query("UPDATE tokens SET device = ?, address = ?, last_used_at = ? WHERE id = ?")
            .bind(fitted(&used.device, 160))
            .bind(fitted(&used.address, 64))
            .bind(to_column(used.at))
            .bind(id)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Makes all tokens of a user worthless but the one with number `kept`. Says how many there were.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn withdraw_other_tokens(&self, user_id: u64, kept: u64) -> Result<u64, StoreError> {
        let done = sqlx::query("DELETE FROM tokens WHERE user_id = ? AND id <> ?")
            .bind(user_id)
            .bind(kept)
            .execute(&self.pool)
            .await?;
        Ok(done.rows_affected())
    }

    /// Makes a token of a user worthless, by its number.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if the user has none such, or if the database does not answer.
    pub async fn withdraw_token(&self, user_id: u64, id: u64) -> Result<(), StoreError> {
        let done = sqlx::query("DELETE FROM tokens WHERE user_id = ? AND id = ?")
            .bind(user_id)
            .bind(id)
            .execute(&self.pool)
            .await?;
        match done.rows_affected() {
            0 => Err(StoreError::NotFound { kind: "token", name: id.to_string() }),
            _ => Ok(()),
        }
    }

    /// Makes a token worthless.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn remove_token(&self, token: &str) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM tokens WHERE digest = ?")
            .bind(&self.keychain.digest(token)[..])
            .execute(&self.pool)
            .await?;
        Ok(())
    }
}
