use sqlx::{QueryBuilder, Row};
use time::OffsetDateTime;
use waverant_relay::ViewerCounts;

use super::{time_in, to_column};
use crate::{Store, StoreError};

/// How long it is kept how many watched, in days.
const KEPT_DAYS: u32 = 400;

/// The most that watched a channel within a minute, by the way they did. Nothing is kept of who they were.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ViewerMinute {
    /// The channel.
    pub channel_id: u64,
    /// The minute's begin.
    pub minute: OffsetDateTime,
    /// How many.
    pub counts: ViewerCounts,
}

impl Store {
    /// Writes how many watched; of a minute that stands there already the larger numbers are kept. Channels that are
    /// gone are left out.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn write_viewer_minutes(&self, minutes: &[ViewerMinute]) -> Result<(), StoreError> {
        if minutes.is_empty() {
            return Ok(());
        }
        let mut query = QueryBuilder::new(
            "INSERT IGNORE INTO viewer_minutes (channel_id, minute, segments, pictures, transport_stream, rtmp, srt) ",
        );
        query.push_values(minutes, |mut row, ViewerMinute { channel_id, minute, counts }| {
            row.push_bind(*channel_id).push_bind(to_column(*minute));
            row.push_bind(counts.segments).push_bind(counts.pictures).push_bind(counts.stream);
            row.push_bind(counts.rtmp).push_bind(counts.srt);
        });
        query.push(
            " ON DUPLICATE KEY UPDATE segments = GREATEST(segments, VALUES(segments)), \
             pictures = GREATEST(pictures, VALUES(pictures)), \
             transport_stream = GREATEST(transport_stream, VALUES(transport_stream)), \
             rtmp = GREATEST(rtmp, VALUES(rtmp)), srt = GREATEST(srt, VALUES(srt))",
        );
        query.build().execute(&self.pool).await?;
        Ok(())
    }

    /// Forgets what is older than is kept.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn forget_viewer_minutes(&self, now: OffsetDateTime) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM viewer_minutes WHERE minute < ? - INTERVAL ? DAY")
            .bind(to_column(now))
            .bind(KEPT_DAYS)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// How many watched a channel, minute by minute, in the time from `from` until before `until`.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn viewer_minutes(
        &self,
        channel_id: u64,
        from: OffsetDateTime,
        until: OffsetDateTime,
    ) -> Result<Vec<ViewerMinute>, StoreError> {
        let rows = sqlx::query(
            "SELECT * FROM viewer_minutes WHERE channel_id = ? AND minute >= ? AND minute < ? ORDER BY minute",
        )
        .bind(channel_id)
        .bind(to_column(from))
        .bind(to_column(until))
        .fetch_all(&self.pool)
        .await?;
        let from_row = |row: &sqlx::mysql::MySqlRow| {
            let counts = ViewerCounts {
                segments: row.try_get("segments")?,
                pictures: row.try_get("pictures")?,
                stream: row.try_get("transport_stream")?,
                rtmp: row.try_get("rtmp")?,
                srt: row.try_get("srt")?,
            };
            Ok(ViewerMinute { channel_id, minute: time_in(row, "minute")?, counts })
        };
        rows.iter().map(from_row).collect()
    }
}
