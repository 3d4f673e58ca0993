use sqlx::mysql::MySqlRow;
use sqlx::{AssertSqlSafe, Row};
use time::OffsetDateTime;
use waverant_relay::{Grants, Role, Secret};

use super::to_column;
use crate::{Store, StoreError, Turn};

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
    /// What the user may do, and where.
    pub grants: Grants,
    /// True if a password alone does not open the house to the user.
    pub has_second_factor: bool,
}

/// The columns of [`user_from`].
pub(super) const USER: &str = "users.id, users.name, users.role, \
    (SELECT GROUP_CONCAT(channel_id, ':', role) FROM channel_roles WHERE user_id = users.id) AS channel_roles, \
    EXISTS (SELECT * FROM second_factors WHERE user_id = users.id AND since IS NOT NULL) OR \
    EXISTS (SELECT * FROM passkeys WHERE user_id = users.id) AS has_second_factor";

/// A user as [`USER`] tells it.
pub(super) fn user_from(row: &MySqlRow) -> Result<User, StoreError> {
    let house: Option<String> = row.try_get("role")?;
    let channels: Option<String> = row.try_get("channel_roles")?;
    let channels = channels.unwrap_or_default();
    let channels = channels.split(',').filter_map(|pair| pair.split_once(':'));
    let channels = channels.filter_map(|(channel, word)| Some((channel.parse().ok()?, role_of(word))));
    let grants = Grants::new(house.as_deref().map(role_of), channels);
    let has_second_factor: i64 = row.try_get("has_second_factor")?;
    Ok(User { id: row.try_get("id")?, name: row.try_get("name")?, grants, has_second_factor: has_second_factor != 0 })
}

/// A role that a newer version knew is taken for the least.
pub(super) fn role_of(word: &str) -> Role {
    Role::from_word(word).unwrap_or(Role::Observer)
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

    /// Adds an administrator.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`], or if the database does not answer.
    pub async fn add_user(&self, name: &str, password: &Secret, now: OffsetDateTime) -> Result<User, StoreError> {
        let hash = self.hasher.hash(password.clone()).await?;
        let added = sqlx::query("INSERT INTO users (name, role, password_hash, created_at) VALUES (?, ?, ?, ?)")
            .bind(name)
            .bind(Role::Administrator.word())
            .bind(hash)
            .bind(to_column(now))
            .execute(&self.pool)
            .await
            .map_err(StoreError::name_taken(name))?;
        Ok(User {
            id: added.last_insert_id(),
            name: name.to_owned(),
            grants: Grants::new(Some(Role::Administrator), []),
            has_second_factor: false,
        })
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
            "INSERT INTO users (name, role, password_hash, created_at) SELECT ?, ?, ?, ? FROM DUAL \
             WHERE NOT EXISTS (SELECT * FROM users)",
        )
        .bind(name)
        .bind(Role::Administrator.word())
        .bind(hash)
        .bind(to_column(now))
        .execute(&self.pool)
        .await?;
        let user = User {
            id: added.last_insert_id(),
            name: name.to_owned(),
            grants: Grants::new(Some(Role::Administrator), []),
            has_second_factor: false,
        };
        Ok((added.rows_affected() == 1).then_some(user))
    }

    /// The user with this name and password, if there is one.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn sign_in(&self, name: &str, password: &Secret, turn: Turn) -> Result<Option<User>, StoreError> {
        // What takes longer the more there is to be told comes afterwards.
        let known: Option<String> = sqlx::query_scalar("SELECT password_hash FROM users WHERE name = ?")
            .bind(name)
            .fetch_optional(&self.pool)
            .await?;
        // Who was invited and did not come yet has none, and takes as long.
        let hash = known.filter(|hash| !hash.is_empty()).unwrap_or_else(|| NO_USER.to_owned());
        if !self.hasher.verify(password.clone(), hash.clone(), turn).await? {
            return Ok(None);
        }
        let row = sqlx::query(AssertSqlSafe(format!("SELECT {USER} FROM users WHERE name = ? AND password_hash = ?")))
            .bind(name)
            .bind(hash)
            .fetch_optional(&self.pool)
            .await?;
        row.as_ref().map(user_from).transpose()
    }

    /// True if this is the password of a user.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn is_password_of(&self, user_id: u64, password: &Secret) -> Result<bool, StoreError> {
        let known: Option<String> = sqlx::query_scalar("SELECT password_hash FROM users WHERE id = ?")
            .bind(user_id)
            .fetch_optional(&self.pool)
            .await?;
        match known {
            Some(known) => self.hasher.verify(password.clone(), known, Turn::First).await,
            None => Ok(false),
        }
    }

    /// Changes a password, if `present` is the one that there is, and makes all tokens of the user worthless but the one
    /// with number `kept`. False if it is not.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn change_password(
        &self,
        user_id: u64,
        (present, wanted): (&Secret, &Secret),
        kept: u64,
    ) -> Result<bool, StoreError> {
        let known: Option<String> = sqlx::query_scalar("SELECT password_hash FROM users WHERE id = ?")
            .bind(user_id)
            .fetch_optional(&self.pool)
            .await?;
        let Some(known) = known else { return Ok(false) };
        if !self.hasher.verify(present.clone(), known.clone(), Turn::First).await? {
            return Ok(false);
        }
        let hash = self.hasher.hash(wanted.clone()).await?;
        let mut transaction = self.pool.begin().await?;
        // Of two changes at once the second finds that its present password is none any more.
        let changed = sqlx::query("UPDATE users SET password_hash = ? WHERE id = ? AND password_hash = ?")
            .bind(hash)
            .bind(user_id)
            .bind(known)
            .execute(&mut *transaction)
            .await?;
        if changed.rows_affected() == 0 {
            return Ok(false);
        }
        sqlx::query("DELETE FROM tokens WHERE user_id = ? AND id <> ?")
            .bind(user_id)
            .bind(kept)
            .execute(&mut *transaction)
            .await?;
        transaction.commit().await?;
        Ok(true)
    }
}
