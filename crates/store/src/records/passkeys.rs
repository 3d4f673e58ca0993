use sha2::{Digest, Sha256};
use sqlx::Row;
use sqlx::mysql::MySqlRow;
use time::OffsetDateTime;
use waverant_relay::Secret;

use super::{optional_time_in, time_in, to_column};
use crate::{Store, StoreError, User};

/// Passkeys of a person.
const MOST: u32 = 20;

/// A passkey: one half of a pair of keys, whose other half a device keeps.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Passkey {
    /// Its number.
    pub id: u64,
    /// What its owner calls it.
    pub label: String,
    /// The host at which it is good.
    pub host: String,
    /// Public key and counter, as the library that looks at them writes them.
    pub credential: String,
    /// Since when it is there.
    pub created_at: OffsetDateTime,
    /// When it was used last.
    pub last_used_at: Option<OffsetDateTime>,
}

/// A passkey that is to be kept.
#[derive(Clone, Debug)]
pub struct NewPasskey {
    /// What its owner calls it.
    pub label: String,
    /// The host at which it is good.
    pub host: String,
    /// Its name, as the device gave it.
    pub name: Vec<u8>,
    /// Public key and counter.
    pub credential: String,
}

fn passkey_from(row: &MySqlRow) -> Result<Passkey, StoreError> {
    Ok(Passkey {
        id: row.try_get("id")?,
        label: row.try_get("label")?,
        host: row.try_get("host")?,
        credential: row.try_get("credential")?,
        created_at: time_in(row, "created_at")?,
        last_used_at: optional_time_in(row, "last_used_at")?,
    })
}

fn digest(name: &[u8]) -> Vec<u8> {
    Sha256::digest(name).to_vec()
}

impl Store {
    /// The passkeys of a user, the oldest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn passkeys(&self, user_id: u64) -> Result<Vec<Passkey>, StoreError> {
        let rows = sqlx::query("SELECT * FROM passkeys WHERE user_id = ? ORDER BY id").bind(user_id);
        rows.fetch_all(&self.pool).await?.iter().map(passkey_from).collect()
    }

    /// What devices know a user by: the same at all times, and nothing that tells who it is.
    pub fn passkey_handle(&self, user_id: u64) -> [u8; 16] {
        let digest = self.keychain.digest(&format!("passkeys of {user_id}"));
        std::array::from_fn(|at| digest[at])
    }

    /// Keeps a passkey. If the user had no second factor, all tokens but the one with number `kept` end; and there are
    /// recovery codes, which are told once. No codes are told if there were some.
    ///
    /// # Errors
    /// [`StoreError::TooMany`], [`StoreError::NameTaken`] if it is there already, or if the database does not answer.
    pub async fn add_passkey(
        &self,
        user: &User,
        passkey: &NewPasskey,
        (kept, now): (u64, OffsetDateTime),
    ) -> Result<Vec<Secret>, StoreError> {
        let mut transaction = self.pool.begin().await?;
        // Whoever else changes the factors of this user waits.
        sqlx::query("SELECT id FROM users WHERE id = ? FOR UPDATE").bind(user.id).fetch_one(&mut *transaction).await?;
        let count = "SELECT COUNT(*) FROM passkeys WHERE user_id = ?";
        let count: i64 = sqlx::query_scalar(count).bind(user.id).fetch_one(&mut *transaction).await?;
        if count >= i64::from(MOST) {
            return Err(StoreError::TooMany { what: "passkeys", most: MOST });
        }
        let added = sqlx::query(
            "INSERT INTO passkeys (user_id, label, host, digest, credential, created_at) VALUES (?, ?, ?, ?, ?, ?)",
        )
        .bind(user.id)
        .bind(&passkey.label)
        .bind(&passkey.host)
        .bind(digest(&passkey.name))
        .bind(&passkey.credential)
        .bind(to_column(now))
        .execute(&mut *transaction)
        .await;
        match added {
            Err(sqlx::Error::Database(error)) if error.is_unique_violation() => {
                return Err(StoreError::NameTaken(passkey.label.clone()));
            }
            added => added?,
        };
        let has_codes = "SELECT EXISTS (SELECT * FROM recovery_codes WHERE user_id = ?) OR \
                         EXISTS (SELECT * FROM second_factors WHERE user_id = ? AND since IS NOT NULL)";
        let has_codes: i64 =
            sqlx::query_scalar(has_codes).bind(user.id).bind(user.id).fetch_one(&mut *transaction).await?;
        let mut codes = Vec::new();
        if count == 0 && has_codes == 0 {
            sqlx::query("DELETE FROM tokens WHERE user_id = ? AND id <> ?")
                .bind(user.id)
                .bind(kept)
                .execute(&mut *transaction)
                .await?;
            codes = self.write_recovery_codes(&mut transaction, user.id).await?;
        }
        transaction.commit().await?;
        Ok(codes)
    }

    /// Notes that a passkey was used, with its counter as it is now. False if it was taken away meanwhile.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn use_passkey(
        &self,
        user_id: u64,
        passkey: &Passkey,
        credential: &str,
        now: OffsetDateTime,
    ) -> Result<bool, StoreError> {
        // Of two who hold copies of one key, and use them at once, one finds another counter.
        let used = sqlx::query(
            "UPDATE passkeys SET credential = ?, last_used_at = ? WHERE id = ? AND user_id = ? AND credential = ?",
        )
        .bind(credential)
        .bind(to_column(now))
        .bind(passkey.id)
        .bind(user_id)
        .bind(&passkey.credential)
        .execute(&self.pool)
        .await?;
        Ok(used.rows_affected() == 1)
    }

    /// Takes a passkey of a user away, and the recovery codes with the last factor. False if there is no such one.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn remove_passkey(&self, user_id: u64, id: u64) -> Result<bool, StoreError> {
        let mut transaction = self.pool.begin().await?;
        sqlx::query("SELECT id FROM users WHERE id = ? FOR UPDATE")
            .bind(user_id)
            .fetch_optional(&mut *transaction)
            .await?;
        let gone = sqlx::query("DELETE FROM passkeys WHERE id = ? AND user_id = ?")
            .bind(id)
            .bind(user_id)
            .execute(&mut *transaction)
            .await?;
        super::second_factors::drop_useless_codes(&mut transaction, user_id).await?;
        transaction.commit().await?;
        Ok(gone.rows_affected() > 0)
    }
}
