use std::net::{IpAddr, SocketAddr};

use sqlx::mysql::MySqlRow;
use sqlx::{QueryBuilder, Row};
use waverant_relay::{AwayAttempt, AwayGroup};

use super::{fitted, time_in, to_column};
use crate::{Store, StoreError};

/// Groups that are kept of callers with keys that are known, and of others; the list is for looking at what just went
/// wrong, not an archive.
const KEPT: u32 = 1000;

fn group_from(row: &MySqlRow) -> Result<AwayGroup, StoreError> {
    Ok(AwayGroup {
        id: row.try_get("id")?,
        first_at: time_in(row, "first_at")?,
        count: row.try_get("attempt_count")?,
        last: AwayAttempt {
            at: time_in(row, "at")?,
            address: address_in(row.try_get("address")?),
            reason: row.try_get("reason")?,
            detail: row.try_get("detail")?,
            protocol: row.try_get("protocol")?,
            encoder: row.try_get("encoder")?,
            key_prefix: row.try_get("key_prefix")?,
            channel_name: row.try_get("channel_name")?,
        },
    })
}

/// Rows of earlier versions have a port behind the address.
fn address_in(text: &str) -> Option<IpAddr> {
    text.parse().ok().or_else(|| Some(text.parse::<SocketAddr>().ok()?.ip()))
}

impl Store {
    /// Writes groups as they are now, and forgets those whose last was before a thousand others of their kind: strangers
    /// never push out who had a key.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn write_turned_away(&self, groups: &[AwayGroup]) -> Result<(), StoreError> {
        if groups.is_empty() {
            return Ok(());
        }
        let mut query = QueryBuilder::new(
            "INSERT INTO turned_away (id, first_at, at, attempt_count, address, reason, detail, protocol, encoder, \
             key_prefix, channel_name) ",
        );
        query.push_values(groups, |mut row, group| {
            let last = &group.last;
            row.push_bind(group.id)
                .push_bind(to_column(group.first_at))
                .push_bind(to_column(last.at))
                .push_bind(group.count)
                .push_bind(last.address.map(|address| address.to_string()).unwrap_or_default())
                .push_bind(fitted(&last.reason, 32))
                .push_bind(fitted(&last.detail, 255))
                .push_bind(fitted(&last.protocol, 8))
                .push_bind(fitted(&last.encoder, 96))
                .push_bind(last.key_prefix.as_ref().map(|prefix| fitted(prefix, 16)))
                .push_bind(last.channel_name.as_ref().map(|name| fitted(name, 48)));
        });
        query.push(
            " ON DUPLICATE KEY UPDATE at = GREATEST(at, VALUES(at)), \
             attempt_count = GREATEST(attempt_count, VALUES(attempt_count)), detail = VALUES(detail), key_prefix = VALUES(key_prefix)",
        );
        query.build().execute(&self.pool).await?;
        for of_kind in ["channel_name IS NULL", "channel_name IS NOT NULL"] {
            let forget = format!(
                "DELETE FROM turned_away WHERE {of_kind} AND at < (SELECT at FROM (SELECT at FROM turned_away \
                 WHERE {of_kind} ORDER BY at DESC LIMIT 1 OFFSET {KEPT}) AS oldest)"
            );
            sqlx::query(sqlx::AssertSqlSafe(forget)).execute(&self.pool).await?;
        }
        Ok(())
    }

    /// Groups, those first of whom somebody came last; behind the one with the number `before`, if there is one.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn turned_away(&self, before: Option<u64>, limit: u32) -> Result<Vec<AwayGroup>, StoreError> {
        let rows = sqlx::query(
            "SELECT * FROM turned_away WHERE ? IS NULL OR (at, id) < (SELECT at, id FROM turned_away WHERE id = ?) \
             ORDER BY at DESC, id DESC LIMIT ?",
        )
        .bind(before)
        .bind(before)
        .bind(limit)
        .fetch_all(&self.pool)
        .await?;
        rows.iter().map(group_from).collect()
    }
}
