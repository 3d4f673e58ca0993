use sqlx::mysql::MySqlRow;
use sqlx::{AssertSqlSafe, MySql, QueryBuilder, Row};
use time::OffsetDateTime;
use waverant_relay::{TakeRecord, TakeState};

use super::{fitted, optional_time_in, push_list, time_in, to_column, updates_in_order};
use crate::{CopyState, Store, StoreError};

/// Longer texts are cut.
const MAX_REPAIR: usize = 255;

/// What people make of a take, and where its bytes are.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TakeCard {
    /// What people call it.
    pub title: Option<String>,
    /// What people wrote about it.
    pub note: Option<String>,
    /// True if no rule may remove it.
    pub is_locked: bool,
    /// The number of the take that it was cut from.
    pub cut_from: Option<u32>,
    /// When it was removed; it can be had back for some minutes.
    pub removed_at: Option<OffsetDateTime>,
    /// The digest of the file.
    pub sha256: Option<[u8; 32]>,
    /// True if the file is on the disk of this node.
    pub is_here: bool,
}

/// A take with all that is known of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StoredTake {
    /// Its channel's name.
    pub channel_name: String,
    /// What the recorder knows.
    pub record: TakeRecord,
    /// What people make of it.
    pub card: TakeCard,
}

/// Which takes to list.
#[derive(Clone, Debug, Default)]
pub struct TakeFilter {
    /// Only of this channel.
    pub channel_name: Option<String>,
    /// Only of these channels; of all if there are none given.
    pub channels: Option<Vec<u64>>,
    /// Only those that began at this time or later.
    pub from: Option<OffsetDateTime>,
    /// Only those that began before this time.
    pub until: Option<OffsetDateTime>,
    /// Only those that are at least so long, in milliseconds.
    pub min_ms: Option<u64>,
    /// Only those that are at most so long, in milliseconds.
    pub max_ms: Option<u64>,
    /// Only those before this session and number in the list.
    pub before: Option<(u64, u32)>,
    /// Only those that were removed and can be had back; else only the others.
    pub removed: bool,
    /// At most so many; all if 0.
    pub limit: u32,
}

impl TakeFilter {
    /// The index whose order is that of the list, or that leaves little to be put in order. Left alone, the database
    /// takes one of those that the keeper needs, and puts all takes in order for each page.
    fn index(&self) -> &'static str {
        match self {
            Self { removed: true, .. } => "",
            Self { from: Some(_), until: Some(_), .. } => " FORCE INDEX (by_time)",
            Self { channel_name: Some(_), .. } => " FORCE INDEX (by_channel)",
            _ => " FORCE INDEX (PRIMARY)",
        }
    }
}

/// What is to change of a take's card; what is none stays.
#[derive(Clone, Debug, Default)]
pub struct TakeChange {
    /// What people call it; empty for nothing.
    pub title: Option<String>,
    /// What people wrote about it; empty for nothing.
    pub note: Option<String>,
    /// Whether no rule may remove it.
    pub is_locked: Option<bool>,
}

fn record_from(row: &MySqlRow) -> Result<TakeRecord, StoreError> {
    let marks: Option<String> = row.try_get("marks")?;
    Ok(TakeRecord {
        session_id: row.try_get("session_id")?,
        number: row.try_get("number")?,
        path: row.try_get("path")?,
        state: TakeState::from_name(row.try_get("state")?),
        started_at: time_in(row, "started_at")?,
        duration_ms: row.try_get("duration_ms")?,
        size_bytes: row.try_get("size_bytes")?,
        gap_count: row.try_get("gap_count")?,
        gap_ms: row.try_get("gap_ms")?,
        // What cannot be read is no reason to lose sight of the take.
        marks: marks.and_then(|marks| serde_json::from_str(&marks).ok()).unwrap_or_default(),
        repair: row.try_get("repair")?,
    })
}

pub(super) fn stored_from(row: &MySqlRow, node: u32) -> Result<StoredTake, StoreError> {
    let digest: Option<Vec<u8>> = row.try_get("sha256")?;
    Ok(StoredTake {
        channel_name: row.try_get("channel_name")?,
        record: record_from(row)?,
        card: TakeCard {
            title: row.try_get("title")?,
            note: row.try_get("note")?,
            is_locked: row.try_get("is_locked")?,
            cut_from: row.try_get("cut_from")?,
            removed_at: optional_time_in(row, "removed_at")?,
            sha256: digest.and_then(|digest| digest.try_into().ok()),
            is_here: row.try_get("is_here")? && row.try_get::<u32, _>("node_id")? == node,
        },
    })
}

pub(super) const ALL: &str = "SELECT * FROM takes";

fn missing(session_id: u64, number: u32) -> StoreError {
    StoreError::NotFound { kind: "take", name: format!("{session_id}/{number}") }
}

impl Store {
    /// Writes what the recorder knows of a take; a later call replaces an earlier one, and leaves
    /// what people made of it.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn write_take(&self, take: &TakeRecord, written: u64) -> Result<(), StoreError> {
        let marks = (!take.marks.is_empty()).then(|| serde_json::to_string(&take.marks).unwrap_or_default());
        let insert = "INSERT INTO takes (session_id, number, path, state, started_at, duration_ms, size_bytes, gap_count, \
             gap_ms, marks, repair, node_id, written, channel_name) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, \
             (SELECT channel_name FROM sessions WHERE id = ?)) ON DUPLICATE KEY UPDATE ";
        let columns = [
            "path",
            "state",
            "started_at",
            "duration_ms",
            "size_bytes",
            "gap_count",
            "gap_ms",
            "marks",
            "repair",
            "written",
        ];
        sqlx::query(AssertSqlSafe(format!("{insert}{}", updates_in_order(&columns))))
            .bind(take.session_id)
            .bind(take.number)
            .bind(&take.path)
            .bind(take.state.name())
            .bind(to_column(take.started_at))
            .bind(take.duration_ms)
            .bind(take.size_bytes)
            .bind(take.gap_count)
            .bind(take.gap_ms)
            .bind(marks)
            .bind(take.repair.as_deref().map(|repair| fitted(repair, MAX_REPAIR)))
            .bind(self.node)
            .bind(written)
            .bind(take.session_id)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Takes, the newest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn takes(&self, filter: &TakeFilter) -> Result<Vec<StoredTake>, StoreError> {
        let mut query: QueryBuilder<MySql> = QueryBuilder::new(ALL);
        query.push(filter.index());
        query.push(" WHERE NOT is_going AND removed_at ");
        query.push(if filter.removed { "IS NOT NULL" } else { "IS NULL" });
        if let Some(name) = &filter.channel_name {
            query.push(" AND channel_name = ").push_bind(name);
        }
        if let Some(channels) = &filter.channels {
            query.push(" AND session_id IN (SELECT id FROM sessions WHERE channel_id IN ");
            push_list(&mut query, channels);
            query.push(")");
        }
        if let Some(from) = filter.from {
            query.push(" AND takes.started_at >= ").push_bind(to_column(from));
        }
        if let Some(until) = filter.until {
            query.push(" AND takes.started_at < ").push_bind(to_column(until));
        }
        if let Some(shortest) = filter.min_ms {
            query.push(" AND duration_ms >= ").push_bind(shortest);
        }
        if let Some(longest) = filter.max_ms {
            query.push(" AND duration_ms <= ").push_bind(longest);
        }
        if let Some((session, number)) = filter.before {
            query.push(" AND session_id <= ").push_bind(session);
            query.push(" AND (session_id < ").push_bind(session).push(" OR number < ").push_bind(number).push(")");
        }
        query.push(" ORDER BY session_id DESC, number DESC");
        if filter.limit > 0 {
            query.push(" LIMIT ").push_bind(filter.limit);
        }
        let rows = query.build().fetch_all(&self.pool).await?;
        rows.iter().map(|row| stored_from(row, self.node)).collect()
    }

    /// One take.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer.
    pub async fn take(&self, session_id: u64, number: u32) -> Result<StoredTake, StoreError> {
        let row = sqlx::query(AssertSqlSafe(format!("{ALL} WHERE session_id = ? AND number = ? AND NOT is_going")))
            .bind(session_id)
            .bind(number)
            .fetch_optional(&self.pool)
            .await?;
        stored_from(&row.ok_or_else(|| missing(session_id, number))?, self.node)
    }

    /// The takes of a session in order, those that were removed left out.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn takes_of_session(&self, session_id: u64) -> Result<Vec<StoredTake>, StoreError> {
        let rows = sqlx::query(AssertSqlSafe(format!(
            "{ALL} WHERE session_id = ? AND removed_at IS NULL AND NOT is_going ORDER BY number"
        )))
        .bind(session_id)
        .fetch_all(&self.pool)
        .await?;
        rows.iter().map(|row| stored_from(row, self.node)).collect()
    }

    /// The largest number of a session's takes, removed ones included; 0 if it has none.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn last_take_number(&self, session_id: u64) -> Result<u32, StoreError> {
        let row = sqlx::query("SELECT MAX(number) AS last FROM takes WHERE session_id = ?").bind(session_id);
        Ok(row.fetch_one(&self.pool).await?.try_get::<Option<u32>, _>("last")?.unwrap_or(0))
    }

    /// Takes of this node that no end was written for.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn unfinished_takes(&self) -> Result<Vec<TakeRecord>, StoreError> {
        let rows = sqlx::query("SELECT * FROM takes WHERE state = 'writing' AND node_id = ?")
            .bind(self.node)
            .fetch_all(&self.pool)
            .await?;
        rows.iter().map(record_from).collect()
    }

    /// Changes what people make of a take.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer.
    pub async fn change_take(&self, session_id: u64, number: u32, change: &TakeChange) -> Result<(), StoreError> {
        let text = |text: &Option<String>| text.clone().filter(|text| !text.is_empty());
        sqlx::query(
            "UPDATE takes SET title = IF(?, ?, title), note = IF(?, ?, note), is_locked = COALESCE(?, is_locked) \
             WHERE session_id = ? AND number = ? AND NOT is_going",
        )
        .bind(change.title.is_some())
        .bind(text(&change.title))
        .bind(change.note.is_some())
        .bind(text(&change.note))
        .bind(change.is_locked)
        .bind(session_id)
        .bind(number)
        .execute(&self.pool)
        .await?;
        self.take(session_id, number).await.map(|_| ())
    }

    /// Marks a take as removed, or takes that back. One that is locked is not removed.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if there is none such, also if its removal has begun; or if the
    /// database does not answer.
    pub async fn set_take_removed(
        &self,
        session_id: u64,
        number: u32,
        removed_at: Option<OffsetDateTime>,
    ) -> Result<(), StoreError> {
        let done = sqlx::query(
            "UPDATE takes SET removed_at = ? WHERE session_id = ? AND number = ? AND NOT is_going \
             AND NOT (is_locked AND ?)",
        )
        .bind(removed_at.map(to_column))
        .bind(session_id)
        .bind(number)
        .bind(removed_at.is_some())
        .execute(&self.pool)
        .await?;
        if done.rows_affected() == 0 { Err(missing(session_id, number)) } else { Ok(()) }
    }

    /// Writes down the digest of a take's file, or that it is not known any more.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn set_take_digest(
        &self,
        session_id: u64,
        number: u32,
        digest: Option<[u8; 32]>,
    ) -> Result<(), StoreError> {
        sqlx::query("UPDATE takes SET sha256 = ? WHERE session_id = ? AND number = ?")
            .bind(digest.map(Vec::from))
            .bind(session_id)
            .bind(number)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Says whether a take's file is on the disk of this node.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn set_take_here(&self, session_id: u64, number: u32, is_here: bool) -> Result<(), StoreError> {
        sqlx::query("UPDATE takes SET is_here = ?, node_id = IF(?, ?, node_id) WHERE session_id = ? AND number = ?")
            .bind(is_here)
            .bind(is_here)
            .bind(self.node)
            .bind(session_id)
            .bind(number)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Adds a take that was cut from another; unlike [`write_take`](Self::write_take) it never touches a
    /// record that is there. False if the number is taken.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn add_cut_take(
        &self,
        take: &TakeRecord,
        cut_from: u32,
        title: Option<&str>,
    ) -> Result<bool, StoreError> {
        let added = sqlx::query(
            "INSERT INTO takes (session_id, number, path, state, started_at, duration_ms, size_bytes, cut_from, \
             title, node_id, channel_name) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, \
             (SELECT channel_name FROM sessions WHERE id = ?))",
        )
        .bind(take.session_id)
        .bind(take.number)
        .bind(&take.path)
        .bind(take.state.name())
        .bind(to_column(take.started_at))
        .bind(take.duration_ms)
        .bind(take.size_bytes)
        .bind(cut_from)
        .bind(title)
        .bind(self.node)
        .bind(take.session_id)
        .execute(&self.pool)
        .await;
        match added {
            Ok(_) => Ok(true),
            Err(sqlx::Error::Database(error)) if error.is_unique_violation() => Ok(false),
            Err(error) => Err(error.into()),
        }
    }

    /// Begins the removal of a take for good: from here on it is found by nobody but
    /// [`going_takes`](Self::going_takes). False, and nothing is changed, if it is not any more what was decided
    /// on: it was locked meanwhile, removed or had back (`removed_at` is what was seen), or is gone.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn begin_forgetting(
        &self,
        session_id: u64,
        number: u32,
        removed_at: Option<OffsetDateTime>,
    ) -> Result<bool, StoreError> {
        let done = sqlx::query(
            "UPDATE takes SET is_going = TRUE WHERE session_id = ? AND number = ? AND NOT is_going AND NOT is_locked \
             AND state <> 'writing' AND removed_at <=> ?",
        )
        .bind(session_id)
        .bind(number)
        .bind(removed_at.map(to_column))
        .execute(&self.pool)
        .await?;
        Ok(done.rows_affected() == 1)
    }

    /// Writes down that a take is left to its depot, if that is still right: it is not locked, removed or going,
    /// and its copy is there. False, and nothing is changed, if not.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn leave_take_to_depot(&self, session_id: u64, number: u32) -> Result<bool, StoreError> {
        let done = sqlx::query(
            "UPDATE takes SET is_here = FALSE WHERE session_id = ? AND number = ? AND is_here AND node_id = ? AND NOT is_locked \
             AND NOT is_going AND state <> 'writing' AND removed_at IS NULL AND EXISTS (SELECT * FROM copies \
             WHERE copies.session_id = takes.session_id AND copies.number = takes.number AND copies.state = ?)",
        )
        .bind(session_id)
        .bind(number)
        .bind(self.node)
        .bind(CopyState::There.name())
        .execute(&self.pool)
        .await?;
        Ok(done.rows_affected() == 1)
    }

    /// Forgets a take for good whose removal has begun.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn forget_take(&self, session_id: u64, number: u32) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM takes WHERE session_id = ? AND number = ? AND is_going")
            .bind(session_id)
            .bind(number)
            .execute(&self.pool)
            .await?;
        Ok(())
    }
}
