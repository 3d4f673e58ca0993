use std::time::Duration;

use sqlx::mysql::MySqlRow;
use sqlx::{MySql, QueryBuilder, Row};
use time::OffsetDateTime;
use waverant_relay::Announcement;

use super::{fitted, optional_time_in, push_list, time_in, to_column};
use crate::{Store, StoreError};

/// What is kept of an answer, and of why there was none.
const MAX_ANSWER: usize = 2000;
const MAX_FAULT: usize = 500;

/// Rows that are removed by one statement.
const REMOVED_AT_ONCE: u64 = 1000;

const WAITING: &str = "waiting";

/// Where a delivery stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DeliveryState {
    /// It was not taken yet, and is tried again.
    Waiting,
    /// It was taken.
    Delivered,
    /// It is not tried any more.
    GivenUp,
}

impl DeliveryState {
    /// Its name in the records.
    pub fn name(self) -> &'static str {
        match self {
            Self::Waiting => WAITING,
            Self::Delivered => "delivered",
            Self::GivenUp => "given up",
        }
    }

    fn named(name: &str) -> Self {
        [Self::Waiting, Self::Delivered].into_iter().find(|state| state.name() == name).unwrap_or(Self::GivenUp)
    }
}

/// Something that one target is told.
#[derive(Clone, Debug, PartialEq)]
pub struct Delivery {
    /// Its number, which rises.
    pub id: u64,
    /// The target's number.
    pub target_id: u64,
    /// Those of a target and a lane come one after the other.
    pub lane: u64,
    /// The event's number.
    pub event_id: String,
    /// What happened: a stable word.
    pub kind: String,
    /// In which channel.
    pub channel: Option<String>,
    /// When.
    pub happened_at: OffsetDateTime,
    /// The event as JSON.
    pub event: String,
    /// Where it stands.
    pub state: DeliveryState,
    /// How often it was tried.
    pub tries: u32,
    /// When it is tried next.
    pub next_at: OffsetDateTime,
    /// The last try, if there was one.
    pub last: Option<DeliveryTry>,
}

/// A try to deliver.
#[derive(Clone, Debug, PartialEq)]
pub struct DeliveryTry {
    /// When it began.
    pub at: OffsetDateTime,
    /// How long it took.
    pub took: Duration,
    /// The status that came back.
    pub status: Option<u16>,
    /// The begin of what came back.
    pub answer: String,
    /// Why it was not taken.
    pub fault: Option<String>,
}

/// The first that waits of a target and a lane.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct WaitingLane {
    /// The target's number.
    pub target_id: u64,
    /// The lane.
    pub lane: u64,
    /// When the first of it is tried next.
    pub next_at: OffsetDateTime,
}

/// How many wait for a target.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct WaitingCount {
    /// The target's number.
    pub target_id: u64,
    /// How many wait.
    pub count: u64,
    /// The most tries that one of them has behind it.
    pub tries: u32,
}

/// Which deliveries are looked for.
#[derive(Clone, Debug, Default)]
pub struct DeliveryFilter {
    /// Of this target.
    pub target_id: Option<u64>,
    /// That stand so.
    pub state: Option<DeliveryState>,
    /// Of what happened in this channel.
    pub channel: Option<String>,
    /// Older than the one of this number.
    pub before: Option<u64>,
    /// At most so many.
    pub limit: u32,
}

fn delivery_from(row: &MySqlRow) -> Result<Delivery, StoreError> {
    let (state, answer): (&str, Option<String>) = (row.try_get("state")?, row.try_get("answer")?);
    let (took_ms, status): (Option<u32>, Option<u16>) = (row.try_get("took_ms")?, row.try_get("status")?);
    let last = optional_time_in(row, "tried_at")?.map(|at| -> Result<DeliveryTry, sqlx::Error> {
        let took = Duration::from_millis(took_ms.unwrap_or_default().into());
        Ok(DeliveryTry { at, took, status, answer: answer.unwrap_or_default(), fault: row.try_get("fault")? })
    });
    Ok(Delivery {
        id: row.try_get("id")?,
        target_id: row.try_get("target_id")?,
        lane: row.try_get("lane")?,
        event_id: row.try_get("event_id")?,
        kind: row.try_get("kind")?,
        channel: row.try_get("channel")?,
        happened_at: time_in(row, "happened_at")?,
        event: row.try_get("event")?,
        state: DeliveryState::named(state),
        tries: row.try_get("tries")?,
        next_at: time_in(row, "next_at")?,
        last: last.transpose()?,
    })
}

impl Store {
    /// Writes down that targets are to be told of something; those that are gone are left out, and what stands there
    /// already stays as it is.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn write_announcement(&self, announced: &Announcement) -> Result<(), StoreError> {
        let happened = &announced.occurrence;
        let at = to_column(happened.happened_at);
        let mut query: QueryBuilder<MySql> = QueryBuilder::new(
            "INSERT IGNORE INTO deliveries (target_id, lane, event_id, kind, channel, happened_at, event, state, next_at) \
             SELECT id, ",
        );
        query.push_bind(happened.lane()).push(", ").push_bind(&announced.event_id).push(", ");
        query.push_bind(happened.kind.word()).push(", ");
        query.push_bind(happened.channel.as_ref().map(|channel| fitted(&channel.name, 64))).push(", ");
        query.push_bind(at).push(", ").push_bind(announced.event().to_string()).push(", ").push_bind(WAITING);
        query.push(", ").push_bind(at).push(" FROM call_targets WHERE id IN ");
        push_list(&mut query, &announced.targets);
        query.build().execute(&self.pool).await?;
        Ok(())
    }

    /// All lanes in which something waits.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn waiting_lanes(&self) -> Result<Vec<WaitingLane>, StoreError> {
        let rows = sqlx::query(
            "SELECT first.target_id, first.lane, deliveries.next_at FROM \
             (SELECT target_id, lane, MIN(id) AS id FROM deliveries WHERE state = ? GROUP BY target_id, lane) AS first \
             JOIN deliveries ON deliveries.id = first.id",
        )
        .bind(WAITING)
        .fetch_all(&self.pool)
        .await?;
        let lane = |row: &MySqlRow| -> Result<WaitingLane, StoreError> {
            let (target_id, lane) = (row.try_get("target_id")?, row.try_get("lane")?);
            Ok(WaitingLane { target_id, lane, next_at: time_in(row, "next_at")? })
        };
        rows.iter().map(lane).collect()
    }

    /// How many wait for each target.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn waiting_counts(&self) -> Result<Vec<WaitingCount>, StoreError> {
        let rows = sqlx::query(
            "SELECT target_id, COUNT(*) AS count, MAX(tries) AS tries FROM deliveries WHERE state = ? GROUP BY target_id",
        )
        .bind(WAITING)
        .fetch_all(&self.pool)
        .await?;
        let count = |row: &MySqlRow| -> Result<WaitingCount, StoreError> {
            let count: i64 = row.try_get("count")?;
            let (target_id, tries) = (row.try_get("target_id")?, row.try_get("tries")?);
            Ok(WaitingCount { target_id, count: count.unsigned_abs(), tries })
        };
        rows.iter().map(count).collect()
    }

    /// The first that wait of a lane, or of all lanes of a target, in the order in which they are told.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn next_deliveries(
        &self,
        target_id: u64,
        lane: Option<u64>,
        limit: u32,
    ) -> Result<Vec<Delivery>, StoreError> {
        let mut query: QueryBuilder<MySql> = QueryBuilder::new("SELECT * FROM deliveries WHERE state = ");
        query.push_bind(WAITING).push(" AND target_id = ").push_bind(target_id);
        if let Some(lane) = lane {
            query.push(" AND lane = ").push_bind(lane);
        }
        query.push(" ORDER BY id LIMIT ").push_bind(limit);
        let rows = query.build().fetch_all(&self.pool).await?;
        rows.iter().map(delivery_from).collect()
    }

    /// Writes down what became of tries; what was decided otherwise meanwhile stays.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn note_delivery_try(
        &self,
        ids: &[u64],
        state: DeliveryState,
        next_at: OffsetDateTime,
        tried: &DeliveryTry,
    ) -> Result<(), StoreError> {
        let mut query: QueryBuilder<MySql> = QueryBuilder::new("UPDATE deliveries SET tries = tries + 1, state = ");
        query.push_bind(state.name()).push(", next_at = ").push_bind(to_column(next_at)).push(", tried_at = ");
        query.push_bind(to_column(tried.at)).push(", took_ms = ");
        query.push_bind(u32::try_from(tried.took.as_millis()).unwrap_or(u32::MAX)).push(", status = ");
        query.push_bind(tried.status).push(", answer = ").push_bind(fitted(&tried.answer, MAX_ANSWER));
        query.push(", fault = ").push_bind(tried.fault.as_deref().map(|fault| fitted(fault, MAX_FAULT)));
        query.push(" WHERE state = ").push_bind(WAITING).push(" AND id IN ");
        push_list(&mut query, ids);
        query.build().execute(&self.pool).await?;
        Ok(())
    }

    /// Has all that wait for a target tried at once.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn hurry_deliveries(&self, target_id: u64, now: OffsetDateTime) -> Result<(), StoreError> {
        sqlx::query("UPDATE deliveries SET next_at = ? WHERE state = ? AND target_id = ? AND next_at > ?")
            .bind(to_column(now))
            .bind(WAITING)
            .bind(target_id)
            .bind(to_column(now))
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Deliveries, the newest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn deliveries(&self, filter: &DeliveryFilter) -> Result<Vec<Delivery>, StoreError> {
        let mut query: QueryBuilder<MySql> = QueryBuilder::new("SELECT * FROM deliveries WHERE TRUE");
        if let Some(target) = filter.target_id {
            query.push(" AND target_id = ").push_bind(target);
        }
        if let Some(state) = filter.state {
            query.push(" AND state = ").push_bind(state.name());
        }
        if let Some(channel) = &filter.channel {
            query.push(" AND channel = ").push_bind(channel);
        }
        if let Some(before) = filter.before {
            query.push(" AND id < ").push_bind(before);
        }
        query.push(" ORDER BY id DESC LIMIT ").push_bind(filter.limit);
        let rows = query.build().fetch_all(&self.pool).await?;
        rows.iter().map(delivery_from).collect()
    }

    /// One of them.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer.
    pub async fn delivery(&self, id: u64) -> Result<Delivery, StoreError> {
        let row = sqlx::query("SELECT * FROM deliveries WHERE id = ?").bind(id).fetch_optional(&self.pool).await?;
        row.as_ref().map(delivery_from).transpose()?.ok_or_else(|| missing(id))
    }

    /// Has one told once more, or at once if it waits. It is the same event, with the same number.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer.
    pub async fn deliver_again(&self, id: u64, now: OffsetDateTime) -> Result<(), StoreError> {
        let changed = sqlx::query("UPDATE deliveries SET state = ?, next_at = ? WHERE id = ?")
            .bind(WAITING)
            .bind(to_column(now))
            .bind(id)
            .execute(&self.pool)
            .await?;
        if changed.rows_affected() == 0 { Err(missing(id)) } else { Ok(()) }
    }

    /// Forgets what was told, or given up, and happened before `before`.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn forget_deliveries(&self, before: OffsetDateTime) -> Result<(), StoreError> {
        for state in [DeliveryState::Delivered, DeliveryState::GivenUp] {
            loop {
                let removed = sqlx::query("DELETE FROM deliveries WHERE state = ? AND happened_at < ? LIMIT ?")
                    .bind(state.name())
                    .bind(to_column(before))
                    .bind(REMOVED_AT_ONCE)
                    .execute(&self.pool)
                    .await?;
                if removed.rows_affected() < REMOVED_AT_ONCE {
                    break;
                }
            }
        }
        Ok(())
    }
}

fn missing(id: u64) -> StoreError {
    StoreError::NotFound { kind: "delivery", name: id.to_string() }
}
