use sqlx::Row;
use time::OffsetDateTime;

use super::{fitted, to_column};
use crate::{Secret, Store, StoreError};

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
        let token = Secret::new_token();
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

    /// The user to whom a token belongs, if it is valid at `now`.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn user_of_token(&self, token: &str, now: OffsetDateTime) -> Result<Option<User>, StoreError> {
        let row = sqlx::query(
            "SELECT users.id, users.name FROM tokens JOIN users ON users.id = tokens.user_id \
             WHERE digest = ? AND (expires_at IS NULL OR expires_at > ?)",
        )
        .bind(&self.keychain.digest(token)[..])
        .bind(to_column(now))
        .fetch_optional(&self.pool)
        .await?;
        row.map(|row| Ok(User { id: row.try_get("id")?, name: row.try_get("name")? })).transpose()
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
