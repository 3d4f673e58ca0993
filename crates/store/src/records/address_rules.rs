use sqlx::mysql::MySqlRow;
use sqlx::{MySql, Row, Transaction};
use time::OffsetDateTime;
use waverant_relay::{AddressRule, Reception};

use super::{fitted, optional_time_in, time_in, to_column};
use crate::{Store, StoreError};

/// What is kept of a note and of who made a rule.
const MAX_NOTE: usize = 255;
const MAX_MADE_BY: usize = 96;

/// None if a later version wrote what this one does not know.
fn rule_from(row: &MySqlRow) -> Result<Option<AddressRule>, StoreError> {
    let (range, reception): (&str, &str) = (row.try_get("range_text")?, row.try_get("reception")?);
    let (Ok(range), Some(reception)) = (range.parse(), Reception::named(reception)) else { return Ok(None) };
    Ok(Some(AddressRule {
        id: row.try_get("id")?,
        range,
        reception,
        until: optional_time_in(row, "until")?,
        note: row.try_get("note")?,
        made_at: time_in(row, "made_at")?,
        made_by: row.try_get("made_by")?,
    }))
}

impl Store {
    /// The rules for addresses that are not over at `now`, the newest first. Those that are over are forgotten.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn address_rules(&self, now: OffsetDateTime) -> Result<Vec<AddressRule>, StoreError> {
        let over = sqlx::query("DELETE FROM address_rules WHERE until <= ?").bind(to_column(now));
        over.execute(&self.pool).await?;
        let rows = sqlx::query("SELECT * FROM address_rules ORDER BY id DESC").fetch_all(&self.pool).await?;
        rows.iter().filter_map(|row| rule_from(row).transpose()).collect()
    }

    /// Writes a rule down, in the place of another one for the same addresses, if there are fewer than `most`. Returns
    /// its number.
    ///
    /// # Errors
    /// [`StoreError::TooMany`] if there are as many, or if the database does not answer.
    pub async fn set_address_rule(&self, rule: &AddressRule, most: u32) -> Result<u64, StoreError> {
        let mut transaction = self.pool.begin().await?;
        let id = Self::replace_address_rule(&mut transaction, rule, most).await?;
        transaction.commit().await?;
        Ok(id)
    }

    pub(super) async fn replace_address_rule(
        transaction: &mut Transaction<'_, MySql>,
        rule: &AddressRule,
        most: u32,
    ) -> Result<u64, StoreError> {
        let range = rule.range.to_string();
        sqlx::query("DELETE FROM address_rules WHERE range_text = ?").bind(&range).execute(&mut **transaction).await?;
        let count: i64 =
            sqlx::query_scalar("SELECT COUNT(*) FROM address_rules FOR UPDATE").fetch_one(&mut **transaction).await?;
        if count >= i64::from(most) {
            return Err(StoreError::TooMany { what: "rules for addresses", most });
        }
        let added = sqlx::query(
            "INSERT INTO address_rules (range_text, reception, until, note, made_at, made_by) VALUES (?, ?, ?, ?, ?, ?)",
        )
        .bind(&range)
        .bind(rule.reception.word())
        .bind(rule.until.map(to_column))
        .bind(fitted(&rule.note, MAX_NOTE))
        .bind(to_column(rule.made_at))
        .bind(fitted(&rule.made_by, MAX_MADE_BY))
        .execute(&mut **transaction)
        .await?;
        Ok(added.last_insert_id())
    }

    /// Forgets a rule for addresses.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer.
    pub async fn remove_address_rule(&self, id: u64) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        Self::delete_address_rule(&mut transaction, id).await?;
        Ok(transaction.commit().await?)
    }

    pub(super) async fn delete_address_rule(
        transaction: &mut Transaction<'_, MySql>,
        id: u64,
    ) -> Result<(), StoreError> {
        let removed =
            sqlx::query("DELETE FROM address_rules WHERE id = ?").bind(id).execute(&mut **transaction).await?;
        match removed.rows_affected() {
            0 => Err(StoreError::NotFound { kind: "rule for addresses", name: id.to_string() }),
            _ => Ok(()),
        }
    }
}
