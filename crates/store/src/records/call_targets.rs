use sqlx::mysql::{MySqlArguments, MySqlRow};
use sqlx::query::Query;
use sqlx::{MySql, Row, Transaction};
use waverant_relay::{CallForm, CallRules, CallTarget, OccurrenceKind};

use crate::{Store, StoreError};

const KIND: &str = "call target";

impl Store {
    fn call_target_from(&self, row: &MySqlRow) -> Result<CallTarget, StoreError> {
        let (address, secret): (Vec<u8>, Vec<u8>) = (row.try_get("sealed_address")?, row.try_get("sealed_secret")?);
        let kinds: &str = row.try_get("kinds")?;
        let (content_type, template): (Option<String>, Option<String>) =
            (row.try_get("content_type")?, row.try_get("template")?);
        let form = match content_type {
            Some(content_type) => CallForm::Text { content_type, template: template.unwrap_or_default() },
            None => CallForm::Event,
        };
        Ok(CallTarget {
            id: row.try_get("id")?,
            name: row.try_get("name")?,
            address: self.keychain.unseal(&address)?,
            secret: self.keychain.unseal(&secret)?,
            rules: CallRules {
                is_on: row.try_get("is_on")?,
                channel: row.try_get("channel_id")?,
                // What a later version wrote is left out.
                kinds: kinds.split(',').filter_map(OccurrenceKind::named).collect(),
                form,
            },
        })
    }

    /// All that are told what happens, by name.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer or a secret cannot be opened.
    pub async fn call_targets(&self) -> Result<Vec<CallTarget>, StoreError> {
        let rows = sqlx::query("SELECT * FROM call_targets ORDER BY name").fetch_all(&self.pool).await?;
        rows.iter().map(|row| self.call_target_from(row)).collect()
    }

    /// Writes a target down, if there are fewer than `most`. Returns its number; the one it has is of no matter.
    ///
    /// # Errors
    /// [`StoreError`] if its name is taken, there are as many, or the database does not answer.
    pub async fn add_call_target(&self, target: &CallTarget, most: u32) -> Result<u64, StoreError> {
        let mut transaction = self.pool.begin().await?;
        let id = self.insert_call_target(&mut transaction, target, most).await?;
        transaction.commit().await?;
        Ok(id)
    }

    pub(super) async fn insert_call_target(
        &self,
        transaction: &mut Transaction<'_, MySql>,
        target: &CallTarget,
        most: u32,
    ) -> Result<u64, StoreError> {
        let count: i64 =
            sqlx::query_scalar("SELECT COUNT(*) FROM call_targets FOR UPDATE").fetch_one(&mut **transaction).await?;
        if count >= i64::from(most) {
            return Err(StoreError::TooMany { what: "targets of calls", most });
        }
        let query = sqlx::query(
            "INSERT INTO call_targets (name, channel_id, is_on, sealed_address, sealed_secret, kinds, content_type, \
             template) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        );
        let added = self.bound(query, target)?.execute(&mut **transaction).await;
        Ok(added.map_err(StoreError::name_taken(&target.name))?.last_insert_id())
    }

    /// Changes a target to what is given.
    ///
    /// # Errors
    /// [`StoreError`] if there is none of its number, its name is taken, or the database does not answer.
    pub async fn set_call_target(&self, target: &CallTarget) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        self.update_call_target(&mut transaction, target).await?;
        Ok(transaction.commit().await?)
    }

    pub(super) async fn update_call_target(
        &self,
        transaction: &mut Transaction<'_, MySql>,
        target: &CallTarget,
    ) -> Result<(), StoreError> {
        let present: Option<u64> = sqlx::query_scalar("SELECT id FROM call_targets WHERE id = ? FOR UPDATE")
            .bind(target.id)
            .fetch_optional(&mut **transaction)
            .await?;
        if present.is_none() {
            return Err(StoreError::NotFound { kind: KIND, name: target.name.clone() });
        }
        let query = sqlx::query(
            "UPDATE call_targets SET name = ?, channel_id = ?, is_on = ?, sealed_address = ?, sealed_secret = ?, \
             kinds = ?, content_type = ?, template = ? WHERE id = ?",
        );
        let changed = self.bound(query, target)?.bind(target.id).execute(&mut **transaction).await;
        changed.map_err(StoreError::name_taken(&target.name))?;
        Ok(())
    }

    fn bound<'q>(
        &self,
        query: Query<'q, MySql, MySqlArguments>,
        target: &'q CallTarget,
    ) -> Result<Query<'q, MySql, MySqlArguments>, StoreError> {
        let CallTarget { name, address, secret, rules, .. } = target;
        let (content_type, template) = match &rules.form {
            CallForm::Event => (None, None),
            CallForm::Text { content_type, template } => (Some(content_type), Some(template)),
        };
        let kinds: Vec<&str> = rules.kinds.iter().map(|kind| kind.word()).collect();
        let query = query.bind(name).bind(rules.channel).bind(rules.is_on).bind(self.keychain.seal(address)?);
        Ok(query.bind(self.keychain.seal(secret)?).bind(kinds.join(",")).bind(content_type).bind(template))
    }

    /// Forgets a target, with what it was told and what waits for it.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer.
    pub async fn remove_call_target(&self, id: u64, name: &str) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        Self::delete_call_target(&mut transaction, id, name).await?;
        Ok(transaction.commit().await?)
    }

    pub(super) async fn delete_call_target(
        transaction: &mut Transaction<'_, MySql>,
        id: u64,
        name: &str,
    ) -> Result<(), StoreError> {
        let removed = sqlx::query("DELETE FROM call_targets WHERE id = ?").bind(id).execute(&mut **transaction).await?;
        match removed.rows_affected() {
            0 => Err(StoreError::NotFound { kind: KIND, name: name.to_owned() }),
            _ => Ok(()),
        }
    }
}
