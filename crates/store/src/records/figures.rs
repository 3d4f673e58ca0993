use std::ops::Range;

use sqlx::{QueryBuilder, Row};
use time::{Duration, OffsetDateTime};

use super::to_column;
use crate::{Store, StoreError};

/// Rows that one statement removes: so none holds others for long.
const REMOVED_AT_ONCE: u32 = 500;

/// The session under which the machine's figures stand.
pub const MACHINE: u64 = 0;

/// A packed block of figures, as it is kept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FigureBlock {
    /// Whose: a session's number, or [`MACHINE`].
    pub session_id: u64,
    /// How long its steps are.
    pub step_s: u32,
    /// The first second: since the show's begin; of the machine, since 1970.
    pub start_s: u64,
    /// When that was.
    pub began_at: OffsetDateTime,
    /// The packed points.
    pub bytes: Vec<u8>,
}

impl Store {
    /// Writes blocks; a later one takes the place of an earlier one with the same begin and step.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn write_figures(&self, blocks: &[FigureBlock]) -> Result<(), StoreError> {
        if blocks.is_empty() {
            return Ok(());
        }
        let mut query =
            QueryBuilder::new("REPLACE INTO figures (session_id, node_id, step_s, start_s, began_at, block) ");
        query.push_values(blocks, |mut row, block| {
            row.push_bind(block.session_id).push_bind(self.node).push_bind(block.step_s).push_bind(block.start_s);
            row.push_bind(to_column(block.began_at)).push_bind(&block.bytes);
        });
        query.build().execute(&self.pool).await?;
        Ok(())
    }

    /// The packed blocks of a session, or of this node's machine, with steps of so many seconds that begin within a
    /// range of seconds; each with its first second, in order.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn figures(
        &self,
        session_id: u64,
        step_s: u32,
        starts: Range<u64>,
    ) -> Result<Vec<(u64, Vec<u8>)>, StoreError> {
        let rows = sqlx::query(
            "SELECT start_s, block FROM figures WHERE session_id = ? AND step_s = ? AND start_s >= ? AND start_s < ? \
             AND (session_id <> ? OR node_id = ?) ORDER BY start_s",
        )
        .bind(session_id)
        .bind(step_s)
        .bind(starts.start)
        .bind(starts.end)
        .bind(MACHINE)
        .bind(self.node)
        .fetch_all(&self.pool)
        .await?;
        rows.iter().map(|row| Ok((row.try_get(0)?, row.try_get(1)?))).collect()
    }

    /// Forgets blocks with steps of so many seconds that are older than so many days.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn forget_figures(&self, now: OffsetDateTime, step_s: u32, days: u32) -> Result<(), StoreError> {
        let before = to_column(now - Duration::days(days.into()));
        loop {
            let removed = sqlx::query("DELETE FROM figures WHERE step_s = ? AND began_at < ? LIMIT ?")
                .bind(step_s)
                .bind(before)
                .bind(REMOVED_AT_ONCE)
                .execute(&self.pool)
                .await?;
            if removed.rows_affected() < REMOVED_AT_ONCE.into() {
                return Ok(());
            }
        }
    }
}
