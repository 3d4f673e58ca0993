use sqlx::mysql::MySqlRow;
use sqlx::{AssertSqlSafe, Row};
use time::OffsetDateTime;
use waverant_relay::{KeyRight, Secret};

use super::{fitted, optional_time_in, places, time_in, to_column};
use crate::secrets::new_stream_key;
use crate::{Keychain, Store, StoreError};

fn right_column(right: KeyRight) -> &'static str {
    match right {
        KeyRight::Publish => "publish",
        KeyRight::View => "view",
    }
}

/// What this version does not know opens nothing but watching.
fn right_from(column: &str) -> KeyRight {
    if column == "publish" { KeyRight::Publish } else { KeyRight::View }
}

/// A stream key as it is kept: everything but the key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StreamKey {
    /// The key's number.
    pub id: u64,
    /// The channel that it opens.
    pub channel_id: u64,
    /// What it opens the channel for.
    pub right: KeyRight,
    /// 0 is the highest; a key of lower rank is a backup.
    pub rank: u8,
    /// For whom it was made.
    pub label: String,
    /// The public part.
    pub prefix: String,
    /// The keyed hash of the whole.
    pub digest: [u8; 32],
    /// For encoders with user name and password.
    pub password: Option<KeyPassword>,
    /// When it was made.
    pub created_at: OffsetDateTime,
    /// When it stops being valid.
    pub expires_at: Option<OffsetDateTime>,
    /// Addresses and networks that it may be used from; none for anywhere.
    pub allowed_from: Vec<String>,
}

/// A stream key to be made.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NewStreamKey {
    /// What it opens the channel for.
    pub right: KeyRight,
    /// 0 is the highest; a key of lower rank is a backup.
    pub rank: u8,
    /// For whom.
    pub label: String,
    /// When it stops being valid.
    pub expires_at: Option<OffsetDateTime>,
    /// Addresses and networks that it may be used from; none for anywhere.
    pub allowed_from: Vec<String>,
}

/// What an encoder's answer to a challenge is checked by. The user is the key's public part, the
/// password the whole key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KeyPassword {
    /// What the encoder is sent to mix with its password.
    pub salt: String,
    /// The digest of user, salt and password.
    pub digest: Secret,
}

fn key_from(keychain: &Keychain, row: &MySqlRow) -> Result<StreamKey, StoreError> {
    let digest: Vec<u8> = row.try_get("digest")?;
    let salt: Option<String> = row.try_get("password_salt")?;
    let sealed: Option<Vec<u8>> = row.try_get("sealed_password_digest")?;
    let password = match salt.zip(sealed) {
        Some((salt, sealed)) => Some(KeyPassword { salt, digest: keychain.unseal(&sealed)? }),
        None => None,
    };
    Ok(StreamKey {
        password,
        id: row.try_get("id")?,
        channel_id: row.try_get("channel_id")?,
        right: right_from(row.try_get("key_right")?),
        rank: row.try_get("rank_number")?,
        label: row.try_get("label")?,
        prefix: row.try_get("prefix")?,
        digest: digest.try_into().map_err(|_| StoreError::Unsealable)?,
        created_at: time_in(row, "created_at")?,
        expires_at: optional_time_in(row, "expires_at")?,
        allowed_from: row
            .try_get::<Option<&str>, _>("allowed_from")?
            .map(|ranges| ranges.split(',').map(str::to_owned).collect())
            .unwrap_or_default(),
    })
}

impl Store {
    /// All stream keys.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn all_keys(&self) -> Result<Vec<StreamKey>, StoreError> {
        let rows = sqlx::query("SELECT * FROM stream_keys ORDER BY id").fetch_all(&self.pool).await?;
        rows.iter().map(|row| key_from(&self.keychain, row)).collect()
    }

    /// The stream keys of these channels.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn keys_of(&self, channel_ids: &[u64]) -> Result<Vec<StreamKey>, StoreError> {
        let query =
            format!("SELECT * FROM stream_keys WHERE channel_id IN ({}) ORDER BY id", places(channel_ids.len()));
        let query = channel_ids.iter().fold(sqlx::query(AssertSqlSafe(query)), |query, id| query.bind(id));
        query.fetch_all(&self.pool).await?.iter().map(|row| key_from(&self.keychain, row)).collect()
    }

    /// Makes a stream key. The key itself is not kept and cannot be shown again. `password` tells by what an
    /// encoder's answer to a challenge is checked that has the key as its password.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn add_key(
        &self,
        channel_id: u64,
        new: &NewStreamKey,
        now: OffsetDateTime,
        password: impl FnOnce(&Secret) -> KeyPassword,
    ) -> Result<(StreamKey, Secret), StoreError> {
        let secret = new_stream_key();
        let password = password(&secret);
        let mut transaction = self.pool.begin().await?;
        let added = sqlx::query(
            "INSERT INTO stream_keys (channel_id, key_right, rank_number, label, prefix, digest, created_at, expires_at, \
             allowed_from, password_salt, sealed_password_digest) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        )
        .bind(channel_id)
        .bind(right_column(new.right))
        .bind(new.rank)
        .bind(fitted(&new.label, 96))
        .bind(secret.prefix())
        .bind(&self.keychain.digest(secret.reveal())[..])
        .bind(to_column(now))
        .bind(new.expires_at.map(to_column))
        .bind((!new.allowed_from.is_empty()).then(|| new.allowed_from.join(",")))
        .bind(&password.salt)
        .bind(self.keychain.seal(&password.digest)?)
        .execute(&mut *transaction)
        .await?;
        let row = sqlx::query("SELECT * FROM stream_keys WHERE id = ?")
            .bind(added.last_insert_id())
            .fetch_one(&mut *transaction)
            .await?;
        Self::count_change(&mut transaction, channel_id).await?;
        transaction.commit().await?;
        Ok((key_from(&self.keychain, &row)?, secret))
    }

    /// Removes a stream key of a channel.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer.
    pub async fn remove_key(&self, channel_id: u64, id: u64) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        let done = sqlx::query("DELETE FROM stream_keys WHERE channel_id = ? AND id = ?")
            .bind(channel_id)
            .bind(id)
            .execute(&mut *transaction)
            .await?;
        Self::count_change(&mut transaction, channel_id).await?;
        transaction.commit().await?;
        match done.rows_affected() {
            0 => Err(StoreError::NotFound { kind: "stream key", name: id.to_string() }),
            _ => Ok(()),
        }
    }
}
