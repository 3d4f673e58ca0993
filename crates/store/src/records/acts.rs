use sqlx::mysql::MySqlRow;
use sqlx::{MySql, QueryBuilder, Row};
use time::{Duration, OffsetDateTime};
use waverant_relay::{Act, ActBy, ActOutcome};

use super::{fitted, time_in, to_column};
use crate::{Store, StoreError};

/// Acts of strangers that are kept.
const STRANGERS: u32 = 5000;

/// So many rows are removed with one statement, so that no other waits for it.
const REMOVED_AT_ONCE: u64 = 5000;

/// An act that was written down.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ActRecord {
    /// Its number.
    pub id: u64,
    /// What happened.
    pub act: Act,
}

/// Which acts to list.
#[derive(Clone, Debug, Default)]
pub struct ActFilter {
    /// Only by this person.
    pub person: Option<String>,
    /// Only on this channel.
    pub channel: Option<String>,
    /// Only this.
    pub what: Option<String>,
    /// Only those that ended so.
    pub outcome: Option<ActOutcome>,
    /// Only those at this time or later.
    pub from: Option<OffsetDateTime>,
    /// Only those before this time.
    pub until: Option<OffsetDateTime>,
    /// Only with a smaller number than this.
    pub before: Option<u64>,
    /// At most so many.
    pub limit: u32,
}

fn from_row(row: &MySqlRow) -> Result<ActRecord, StoreError> {
    let (by, outcome): (String, String) = (row.try_get("made_by")?, row.try_get("outcome")?);
    Ok(ActRecord {
        id: row.try_get("id")?,
        act: Act {
            at: time_in(row, "at")?,
            person: row.try_get("person")?,
            by: ActBy::from_word(&by).unwrap_or(ActBy::Program),
            token: row.try_get("token")?,
            address: row.try_get("address")?,
            what: row.try_get("what")?,
            channel: row.try_get("channel")?,
            subject: row.try_get("subject")?,
            outcome: ActOutcome::from_word(&outcome).unwrap_or(ActOutcome::Failed),
            reason: row.try_get("reason")?,
            before: row.try_get("was")?,
            after: row.try_get("became")?,
            mark: row.try_get::<Option<String>, _>("mark")?.unwrap_or_default(),
        },
    })
}

impl Store {
    /// Writes down what somebody did. What strangers did is kept up to a number.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn write_act(&self, act: &Act) -> Result<(), StoreError> {
        sqlx::query(
            "INSERT INTO acts (at, person, made_by, token, address, what, channel, subject, outcome, reason, was, became, \
             mark) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON DUPLICATE KEY UPDATE id = id",
        )
        .bind(to_column(act.at))
        .bind(fitted(&act.person, 64))
        .bind(act.by.word())
        .bind(fitted(&act.token, 96))
        .bind(fitted(&act.address, 64))
        .bind(fitted(&act.what, 48))
        .bind(act.channel.as_deref().map(|channel| fitted(channel, 48)))
        .bind(fitted(&act.subject, 160))
        .bind(act.outcome.word())
        .bind(act.reason.as_deref().map(|reason| fitted(reason, 48)))
        .bind(&act.before)
        .bind(&act.after)
        .bind(Some(&act.mark).filter(|mark| !mark.is_empty()))
        .execute(&self.pool)
        .await?;
        if act.by == ActBy::Stranger {
            self.forget_strangers().await?;
        }
        Ok(())
    }

    async fn forget_strangers(&self) -> Result<(), StoreError> {
        let oldest: Option<u64> =
            sqlx::query_scalar("SELECT id FROM acts WHERE made_by = ? ORDER BY id DESC LIMIT 1 OFFSET ?")
                .bind(ActBy::Stranger.word())
                .bind(STRANGERS)
                .fetch_optional(&self.pool)
                .await?;
        if let Some(oldest) = oldest {
            sqlx::query("DELETE FROM acts WHERE made_by = ? AND id <= ?")
                .bind(ActBy::Stranger.word())
                .bind(oldest)
                .execute(&self.pool)
                .await?;
        }
        Ok(())
    }

    /// Acts, the newest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn acts(&self, filter: &ActFilter) -> Result<Vec<ActRecord>, StoreError> {
        let mut query: QueryBuilder<MySql> = QueryBuilder::new("SELECT * FROM acts WHERE TRUE");
        let words = [
            (" AND person = ", filter.person.as_deref()),
            (" AND channel = ", filter.channel.as_deref()),
            (" AND what = ", filter.what.as_deref()),
            (" AND outcome = ", filter.outcome.map(ActOutcome::word)),
        ];
        for (condition, word) in words {
            if let Some(word) = word {
                query.push(condition).push_bind(word.to_owned());
            }
        }
        if let Some(from) = filter.from {
            query.push(" AND at >= ").push_bind(to_column(from));
        }
        if let Some(until) = filter.until {
            query.push(" AND at < ").push_bind(to_column(until));
        }
        if let Some(before) = filter.before {
            query.push(" AND id < ").push_bind(before);
        }
        query.push(" ORDER BY id DESC LIMIT ").push_bind(filter.limit);
        let rows = query.build().fetch_all(&self.pool).await?;
        rows.iter().map(from_row).collect()
    }

    /// Removes acts that are older than so many days.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn forget_acts(&self, now: OffsetDateTime, days: u32) -> Result<(), StoreError> {
        let Some(before) = now.checked_sub(Duration::days(days.into())) else { return Ok(()) };
        loop {
            let removed = sqlx::query("DELETE FROM acts WHERE at < ? LIMIT ?")
                .bind(to_column(before))
                .bind(REMOVED_AT_ONCE)
                .execute(&self.pool)
                .await?;
            if removed.rows_affected() < REMOVED_AT_ONCE {
                return Ok(());
            }
        }
    }
}
