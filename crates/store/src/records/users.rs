use sqlx::Row;
use sqlx::mysql::MySqlRow;
use time::OffsetDateTime;
use waverant_relay::Secret;

use super::{fitted, optional_time_in, time_in, to_column};
use crate::secrets::new_token;
use crate::{Store, StoreError};

/// Stands in for the hash of a user who does not exist, so that an unknown name takes as long as
/// a wrong password.
const NO_USER: &str = "$argon2id$v=19$m=19456,t=2,p=1$c29tZSBvdGhlciBzYWx0$mO8PvhXzRpQ5cVlqC7ySbsu1xbVYzZ2m0P8OtxmVhZQ";

/// Somebody who may sign in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct User {
    /// The user's number.
    pub id: u64,
    /// The name to sign in with.
    pub name: String,
}

/// A token as it is kept: not the token itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TokenRecord {
    /// Its number.
    pub id: u64,
    /// Who or what has it.
    pub label: String,
    /// When it was made.
    pub created_at: OffsetDateTime,
    /// When it ends.
    pub expires_at: Option<OffsetDateTime>,
}

/// Who holds a token.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TokenHolder {
    /// The person to whom it belongs.
    pub user: User,
    /// Who or what has it.
    pub label: String,
    /// When it ends; none if it does not by itself.
    pub expires_at: Option<OffsetDateTime>,
}

impl Store {
    /// True if nobody can sign in yet.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn has_no_users(&self) -> Result<bool, StoreError> {
        let count: i64 = sqlx::query_scalar("SELECT COUNT(*) FROM users").fetch_one(&self.pool).await?;
        Ok(count == 0)
    }

    /// Adds a user.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`], or if the database does not answer.
    pub async fn add_user(&self, name: &str, password: &Secret, now: OffsetDateTime) -> Result<User, StoreError> {
        let hash = self.hasher.hash(password.clone()).await?;
        let added = sqlx::query("INSERT INTO users (name, password_hash, created_at) VALUES (?, ?, ?)")
            .bind(name)
            .bind(hash)
            .bind(to_column(now))
            .execute(&self.pool)
            .await
            .map_err(StoreError::name_taken(name))?;
        Ok(User { id: added.last_insert_id(), name: name.to_owned() })
    }

    /// Adds the first user; none if somebody was added before.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn add_first_user(
        &self,
        name: &str,
        password: &Secret,
        now: OffsetDateTime,
    ) -> Result<Option<User>, StoreError> {
        let hash = self.hasher.hash(password.clone()).await?;
        let added = sqlx::query(
            "INSERT INTO users (name, password_hash, created_at) SELECT ?, ?, ? FROM DUAL \
             WHERE NOT EXISTS (SELECT * FROM users)",
        )
        .bind(name)
        .bind(hash)
        .bind(to_column(now))
        .execute(&self.pool)
        .await?;
        let user = User { id: added.last_insert_id(), name: name.to_owned() };
        Ok((added.rows_affected() == 1).then_some(user))
    }

    /// The user with this name and password, if there is one.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn sign_in(&self, name: &str, password: &Secret) -> Result<Option<User>, StoreError> {
        let row = sqlx::query("SELECT id, name, password_hash FROM users WHERE name = ?")
            .bind(name)
            .fetch_optional(&self.pool)
            .await?;
        let hash: String = row.as_ref().map_or(Ok(NO_USER.to_owned()), |row| row.try_get("password_hash"))?;
        let fits = self.hasher.verify(password.clone(), hash).await?;
        match row {
            Some(row) if fits => Ok(Some(User { id: row.try_get("id")?, name: row.try_get("name")? })),
            _ => Ok(None),
        }
    }

    /// Makes a token for a user; it is not kept and cannot be shown again.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn add_token(
        &self,
        user: &User,
        label: &str,
        now: OffsetDateTime,
        expires_at: Option<OffsetDateTime>,
    ) -> Result<Secret, StoreError> {
        let token = new_token();
        sqlx::query("DELETE FROM tokens WHERE expires_at < ?").bind(to_column(now)).execute(&self.pool).await?;
        sqlx::query("INSERT INTO tokens (user_id, label, digest, created_at, expires_at) VALUES (?, ?, ?, ?, ?)")
            .bind(user.id)
            .bind(fitted(label, 96))
            .bind(&self.keychain.digest(token.reveal())[..])
            .bind(to_column(now))
            .bind(expires_at.map(to_column))
            .execute(&self.pool)
            .await?;
        Ok(token)
    }

    /// Who holds a token, if it is valid at `now`.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn token_holder(&self, token: &str, now: OffsetDateTime) -> Result<Option<TokenHolder>, StoreError> {
        let row = sqlx::query(
            "SELECT users.id, users.name, label, expires_at FROM tokens JOIN users ON users.id = tokens.user_id \
             WHERE digest = ? AND (expires_at IS NULL OR expires_at > ?)",
        )
        .bind(&self.keychain.digest(token)[..])
        .bind(to_column(now))
        .fetch_optional(&self.pool)
        .await?;
        let read = |row: MySqlRow| {
            Ok(TokenHolder {
                user: User { id: row.try_get("id")?, name: row.try_get("name")? },
                label: row.try_get("label")?,
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
            "SELECT id, label, created_at, expires_at FROM tokens \
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
                created_at: time_in(row, "created_at")?,
                expires_at: optional_time_in(row, "expires_at")?,
            })
        };
        rows.iter().map(read).collect()
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
