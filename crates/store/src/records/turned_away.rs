use sqlx::Row;
use time::OffsetDateTime;

use super::{fitted, time_in, to_column};
use crate::{Store, StoreError};

/// Attempts that are kept; the list is for looking at what just went wrong, not an archive.
const KEPT: u64 = 1000;

/// A publisher who was not let in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TurnedAway {
    /// When.
    pub at: OffsetDateTime,
    /// From where.
    pub address: String,
    /// The reason's stable word.
    pub reason: String,
    /// The reason in words.
    pub detail: String,
    /// The public part of the key that was presented.
    pub key_prefix: Option<String>,
    /// The channel, if the key was one of its keys.
    pub channel_name: Option<String>,
}

/// A kept attempt.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TurnedAwayRecord {
    /// Its number.
    pub id: u64,
    /// What happened.
    pub attempt: TurnedAway,
}

impl Store {
    /// Writes an attempt, and forgets the oldest beyond a thousand.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn write_turned_away(&self, attempt: &TurnedAway) -> Result<(), StoreError> {
        let added = sqlx::query(
            "INSERT INTO turned_away (at, address, reason, detail, key_prefix, channel_name) VALUES (?, ?, ?, ?, ?, ?)",
        )
        .bind(to_column(attempt.at))
        .bind(fitted(&attempt.address, 64))
        .bind(&attempt.reason)
        .bind(fitted(&attempt.detail, 255))
        .bind(&attempt.key_prefix)
        .bind(&attempt.channel_name)
        .execute(&self.pool)
        .await?;
        sqlx::query("DELETE FROM turned_away WHERE id <= ?")
            .bind(added.last_insert_id().saturating_sub(KEPT))
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Attempts, the newest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn turned_away(&self, before: Option<u64>, limit: u32) -> Result<Vec<TurnedAwayRecord>, StoreError> {
        let rows = sqlx::query("SELECT * FROM turned_away WHERE ? IS NULL OR id < ? ORDER BY id DESC LIMIT ?")
            .bind(before)
            .bind(before)
            .bind(limit)
            .fetch_all(&self.pool)
            .await?;
        let from_row = |row: &sqlx::mysql::MySqlRow| {
            Ok(TurnedAwayRecord {
                id: row.try_get("id")?,
                attempt: TurnedAway {
                    at: time_in(row, "at")?,
                    address: row.try_get("address")?,
                    reason: row.try_get("reason")?,
                    detail: row.try_get("detail")?,
                    key_prefix: row.try_get("key_prefix")?,
                    channel_name: row.try_get("channel_name")?,
                },
            })
        };
        rows.iter().map(from_row).collect()
    }
}
