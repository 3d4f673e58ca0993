use sqlx::Row;
use sqlx::mysql::MySqlRow;
use time::OffsetDateTime;

use super::{time_in, to_column};
use crate::{Store, StoreError};

/// Where a take stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TakeState {
    /// It is being written.
    Writing,
    /// It was ended in order.
    Complete,
    /// The service or the disk failed while it was written; it plays up to there.
    CutOff,
}

impl TakeState {
    /// The state's name in the records and in the API.
    pub fn name(self) -> &'static str {
        match self {
            Self::Writing => "writing",
            Self::Complete => "complete",
            Self::CutOff => "cut off",
        }
    }

    fn from_name(name: &str) -> Self {
        match name {
            "complete" => Self::Complete,
            "writing" => Self::Writing,
            _ => Self::CutOff,
        }
    }
}

/// One recorded file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TakeRecord {
    /// The session that it records.
    pub session_id: u64,
    /// Its place in the session, counted from 1.
    pub number: u32,
    /// Where it lies within the recordings folder.
    pub path: String,
    /// Where it stands.
    pub state: TakeState,
    /// When it began.
    pub started_at: OffsetDateTime,
    /// How long it plays, in milliseconds.
    pub duration_ms: u64,
    /// How much it takes, in bytes.
    pub size_bytes: u64,
}

fn from_row(row: &MySqlRow) -> Result<TakeRecord, StoreError> {
    Ok(TakeRecord {
        session_id: row.try_get("session_id")?,
        number: row.try_get("number")?,
        path: row.try_get("path")?,
        state: TakeState::from_name(row.try_get("state")?),
        started_at: time_in(row, "started_at")?,
        duration_ms: row.try_get("duration_ms")?,
        size_bytes: row.try_get("size_bytes")?,
    })
}

impl Store {
    /// Writes a take; a later call replaces an earlier one.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn write_take(&self, take: &TakeRecord) -> Result<(), StoreError> {
        sqlx::query(
            "REPLACE INTO takes (session_id, number, path, state, started_at, duration_ms, size_bytes) \
             VALUES (?, ?, ?, ?, ?, ?, ?)",
        )
        .bind(take.session_id)
        .bind(take.number)
        .bind(&take.path)
        .bind(take.state.name())
        .bind(to_column(take.started_at))
        .bind(take.duration_ms)
        .bind(take.size_bytes)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Takes of a channel or of all, the newest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn takes(&self, channel_name: Option<&str>, limit: u32) -> Result<Vec<(String, TakeRecord)>, StoreError> {
        let rows = sqlx::query(
            "SELECT takes.*, channel_name FROM takes JOIN sessions ON sessions.id = session_id \
             WHERE ? IS NULL OR channel_name = ? ORDER BY session_id DESC, number DESC LIMIT ?",
        )
        .bind(channel_name)
        .bind(channel_name)
        .bind(limit)
        .fetch_all(&self.pool)
        .await?;
        rows.iter().map(|row| Ok((row.try_get("channel_name")?, from_row(row)?))).collect()
    }

    /// The takes of a session in order.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn takes_of_session(&self, session_id: u64) -> Result<Vec<TakeRecord>, StoreError> {
        let rows = sqlx::query("SELECT * FROM takes WHERE session_id = ? ORDER BY number")
            .bind(session_id)
            .fetch_all(&self.pool)
            .await?;
        rows.iter().map(from_row).collect()
    }

    /// Takes that no end was written for.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn unfinished_takes(&self) -> Result<Vec<TakeRecord>, StoreError> {
        let rows = sqlx::query("SELECT * FROM takes WHERE state = 'writing'").fetch_all(&self.pool).await?;
        rows.iter().map(from_row).collect()
    }
}
