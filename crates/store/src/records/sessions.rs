use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};

use sqlx::mysql::MySqlRow;
use sqlx::{AssertSqlSafe, MySql, QueryBuilder, Row};
use time::OffsetDateTime;
use waverant_relay::{LegPhase, LegRecord, NewSession, SessionEnd};

use super::{fitted, optional_time_in, push_list, time_in, to_column, updates_in_order};
use crate::{Store, StoreError};

/// So many of the sessions that began last tell from where publishers come.
const RECENT_SESSIONS: u32 = 500;

/// A session as it is kept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SessionRecord {
    /// How it began.
    pub begun: NewSession,
    /// When it ended.
    pub ended_at: Option<OffsetDateTime>,
    /// Why it ended.
    pub end_reason: Option<String>,
    /// How often the publisher was lost.
    pub loss_count: u32,
}

/// Which sessions to list.
#[derive(Clone, Debug, Default)]
pub struct SessionFilter {
    /// Only of this channel.
    pub channel_name: Option<String>,
    /// Only of these channels; of all if there are none given.
    pub channels: Option<Vec<u64>>,
    /// Only with a smaller number than this.
    pub before: Option<u64>,
    /// At most so many.
    pub limit: u32,
}

/// What an earlier run left open and this start closed.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Unfinished {
    /// Sessions without an end.
    pub sessions: Vec<u64>,
}

fn from_row(row: &MySqlRow) -> Result<SessionRecord, StoreError> {
    Ok(SessionRecord {
        begun: NewSession {
            id: row.try_get("id")?,
            channel_id: row.try_get("channel_id")?,
            channel_name: row.try_get("channel_name")?,
            key_label: row.try_get("key_label")?,
            publisher_address: row.try_get("publisher_address")?,
            encoder: row.try_get("encoder")?,
            started_at: time_in(row, "started_at")?,
            is_rehearsal: row.try_get("is_rehearsal")?,
        },
        ended_at: optional_time_in(row, "ended_at")?,
        end_reason: row.try_get("end_reason")?,
        loss_count: row.try_get("loss_count")?,
    })
}

fn leg_from_row(row: &MySqlRow) -> Result<LegRecord, StoreError> {
    Ok(LegRecord {
        session_id: row.try_get("session_id")?,
        destination_id: row.try_get("destination_id")?,
        destination_name: row.try_get("destination_name")?,
        state: LegPhase::from_name(row.try_get("state")?),
        reason: row.try_get("reason")?,
        sent_frame_count: row.try_get("sent_frame_count")?,
        sent_bytes: row.try_get("sent_bytes")?,
        dropped_frame_count: row.try_get("dropped_frame_count")?,
        dropped_ms: row.try_get("dropped_ms")?,
        redial_count: row.try_get("redial_count")?,
    })
}

impl Store {
    /// From where the publishers of the last sessions came, the newest last. Rehearsals have none.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn recent_publisher_addresses(&self) -> Result<Vec<IpAddr>, StoreError> {
        let addresses: Vec<String> = sqlx::query_scalar(
            "SELECT publisher_address FROM sessions WHERE NOT is_rehearsal ORDER BY id DESC LIMIT ?",
        )
        .bind(RECENT_SESSIONS)
        .fetch_all(&self.pool)
        .await?;
        let parsed = addresses.iter().rev().filter_map(|text| text.parse::<SocketAddr>().ok());
        Ok(parsed.map(|address| address.ip()).collect())
    }

    /// Writes the begin of a session; writing it twice does no harm.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn begin_session(&self, session: &NewSession) -> Result<(), StoreError> {
        sqlx::query(
            "INSERT IGNORE INTO sessions \
             (id, channel_id, channel_name, key_label, publisher_address, encoder, started_at, is_rehearsal, node_id) \
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
        )
        .bind(session.id)
        .bind(session.channel_id)
        .bind(&session.channel_name)
        .bind(fitted(&session.key_label, 96))
        .bind(fitted(&session.publisher_address, 64))
        .bind(fitted(&session.encoder, 160))
        .bind(to_column(session.started_at))
        .bind(session.is_rehearsal)
        .bind(self.node)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Writes the end of a session.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn end_session(&self, end: &SessionEnd) -> Result<(), StoreError> {
        sqlx::query("UPDATE sessions SET ended_at = ?, end_reason = ?, loss_count = ? WHERE id = ?")
            .bind(to_column(end.ended_at))
            .bind(fitted(&end.reason, 160))
            .bind(end.loss_count)
            .bind(end.id)
            .execute(&self.pool)
            .await?;
        sqlx::query("REPLACE INTO show_reports (session_id, report) VALUES (?, ?)")
            .bind(end.id)
            .bind(&end.report)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Sessions, the newest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn sessions(&self, filter: &SessionFilter) -> Result<Vec<SessionRecord>, StoreError> {
        let mut query: QueryBuilder<MySql> = QueryBuilder::new("SELECT * FROM sessions WHERE TRUE");
        if let Some(name) = &filter.channel_name {
            query.push(" AND channel_name = ").push_bind(name);
        }
        if let Some(channels) = &filter.channels {
            push_list(query.push(" AND channel_id IN "), channels);
        }
        if let Some(before) = filter.before {
            query.push(" AND id < ").push_bind(before);
        }
        query.push(" ORDER BY id DESC LIMIT ").push_bind(filter.limit);
        let rows = query.build().fetch_all(&self.pool).await?;
        rows.iter().map(from_row).collect()
    }

    /// The channels of sessions, by the sessions' numbers.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn channels_of_sessions(&self, ids: &[u64]) -> Result<HashMap<u64, u64>, StoreError> {
        let mut query: QueryBuilder<MySql> = QueryBuilder::new("SELECT id, channel_id FROM sessions WHERE id IN ");
        push_list(&mut query, ids);
        let rows = query.build().fetch_all(&self.pool).await?;
        let read = |row: &MySqlRow| Ok((row.try_get("id")?, row.try_get("channel_id")?));
        rows.iter().map(read).collect()
    }

    /// Sessions of a channel that went on within a range of time, the first first: those that began in it, and of those
    /// before the last ones, since hardly two are on a channel at once.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn sessions_within(
        &self,
        channel_name: &str,
        from: OffsetDateTime,
        until: OffsetDateTime,
        limit: u32,
    ) -> Result<Vec<SessionRecord>, StoreError> {
        let rows = sqlx::query(
            "(SELECT * FROM sessions WHERE channel_name = ? AND started_at < ? ORDER BY started_at DESC LIMIT 3) \
             UNION ALL \
             (SELECT * FROM sessions WHERE channel_name = ? AND started_at >= ? AND started_at < ? \
              ORDER BY started_at LIMIT ?) ORDER BY id",
        )
        .bind(channel_name)
        .bind(to_column(from))
        .bind(channel_name)
        .bind(to_column(from))
        .bind(to_column(until))
        .bind(limit)
        .fetch_all(&self.pool)
        .await?;
        let sessions = rows.iter().map(from_row);
        let lasts = |session: &SessionRecord| session.ended_at.is_none_or(|ended| ended > from);
        sessions.filter(|session| session.as_ref().map_or(true, lasts)).collect()
    }

    /// The session with this number.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer.
    pub async fn session(&self, id: u64) -> Result<SessionRecord, StoreError> {
        let row = sqlx::query("SELECT * FROM sessions WHERE id = ?").bind(id).fetch_optional(&self.pool).await?;
        from_row(&row.ok_or(StoreError::NotFound { kind: "session", name: id.to_string() })?)
    }

    /// The report of the show of session `id`, as JSON; none while it goes on or if it was cut off.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn report(&self, id: u64) -> Result<Option<String>, StoreError> {
        let found = sqlx::query_scalar("SELECT report FROM show_reports WHERE session_id = ?").bind(id);
        Ok(found.fetch_optional(&self.pool).await?)
    }

    /// Writes what a leg did; a later call replaces an earlier one.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn write_leg(&self, leg: &LegRecord, written: u64) -> Result<(), StoreError> {
        let insert = "INSERT INTO legs (session_id, destination_id, destination_name, state, reason, sent_frame_count, \
             sent_bytes, dropped_frame_count, dropped_ms, redial_count, node_id, written) \
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON DUPLICATE KEY UPDATE ";
        let columns = [
            "destination_name",
            "state",
            "reason",
            "sent_frame_count",
            "sent_bytes",
            "dropped_frame_count",
            "dropped_ms",
            "redial_count",
            "written",
        ];
        sqlx::query(AssertSqlSafe(format!("{insert}{}", updates_in_order(&columns))))
            .bind(leg.session_id)
            .bind(leg.destination_id)
            .bind(&leg.destination_name)
            .bind(leg.state.name())
            .bind(leg.reason.as_deref().map(|reason| fitted(reason, 255)))
            .bind(leg.sent_frame_count)
            .bind(leg.sent_bytes)
            .bind(leg.dropped_frame_count)
            .bind(leg.dropped_ms)
            .bind(leg.redial_count)
            .bind(self.node)
            .bind(written)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// The legs of a session by destination name.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn legs(&self, session_id: u64) -> Result<Vec<LegRecord>, StoreError> {
        let rows = sqlx::query("SELECT * FROM legs WHERE session_id = ? ORDER BY destination_name")
            .bind(session_id)
            .fetch_all(&self.pool)
            .await?;
        rows.iter().map(leg_from_row).collect()
    }

    /// The sessions that an earlier run of this node left open.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn unfinished_sessions(&self) -> Result<Vec<u64>, StoreError> {
        let query = sqlx::query_scalar("SELECT id FROM sessions WHERE ended_at IS NULL AND node_id = ? ORDER BY id");
        Ok(query.bind(self.node).fetch_all(&self.pool).await?)
    }

    /// Closes the sessions that an earlier run of this node left open.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn close_unfinished(&self, now: OffsetDateTime, reason: &str) -> Result<Unfinished, StoreError> {
        let sessions = self.unfinished_sessions().await?;
        sqlx::query("UPDATE sessions SET ended_at = ?, end_reason = ? WHERE ended_at IS NULL AND node_id = ?")
            .bind(to_column(now))
            .bind(fitted(reason, 160))
            .bind(self.node)
            .execute(&self.pool)
            .await?;
        Ok(Unfinished { sessions })
    }
}
