use std::time::Duration;

use sqlx::mysql::MySqlRow;
use sqlx::{AssertSqlSafe, MySql, Row, Transaction};
use waverant_relay::{AskingRules, HouseSystem, UnknownKeys, WhenSilent};

use super::places;
use crate::{Store, StoreError};

impl Store {
    fn house_system_from(&self, row: &MySqlRow) -> Result<HouseSystem, StoreError> {
        let sealed: Vec<u8> = row.try_get("sealed_secret")?;
        let unknown_keys: &str = row.try_get("unknown_keys")?;
        let time_limit_ms: u32 = row.try_get("time_limit_ms")?;
        let again_s: Option<u32> = row.try_get("again_s")?;
        let lets_known_in: bool = row.try_get("lets_known_in")?;
        Ok(HouseSystem {
            id: row.try_get("id")?,
            rules: AskingRules {
                is_on: row.try_get("is_on")?,
                address: row.try_get("address")?,
                publishers: row.try_get("asks_publishers")?,
                players: row.try_get("asks_players")?,
                unknown_keys: UnknownKeys::named(unknown_keys).unwrap_or_default(),
                when_silent: if lets_known_in { WhenSilent::KnownKeys } else { WhenSilent::Closed },
                time_limit: Duration::from_millis(time_limit_ms.into()),
                retries: row.try_get("retries")?,
                again: again_s.map(|seconds| Duration::from_secs(seconds.into())),
            },
            secret: self.keychain.unseal(&sealed)?,
        })
    }

    /// All systems that are asked before somebody is let in.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer or a secret cannot be opened.
    pub async fn house_systems(&self) -> Result<Vec<HouseSystem>, StoreError> {
        let rows = sqlx::query("SELECT * FROM house_systems ORDER BY id").fetch_all(&self.pool).await?;
        rows.iter().map(|row| self.house_system_from(row)).collect()
    }

    /// Those of these channels; 0 is the one of the house.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer or a secret cannot be opened.
    pub async fn house_systems_of(&self, ids: &[u64]) -> Result<Vec<HouseSystem>, StoreError> {
        let query = format!("SELECT * FROM house_systems WHERE id IN ({})", places(ids.len()));
        let query = ids.iter().fold(sqlx::query(AssertSqlSafe(query)), |query, id| query.bind(id));
        let rows = query.fetch_all(&self.pool).await?;
        rows.iter().map(|row| self.house_system_from(row)).collect()
    }

    /// Writes a system down, in the place of the one that was there.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer, or the channel is not there any more.
    pub async fn set_house_system(&self, system: &HouseSystem) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        self.replace_house_system(&mut transaction, system).await?;
        Ok(transaction.commit().await?)
    }

    pub(super) async fn replace_house_system(
        &self,
        transaction: &mut Transaction<'_, MySql>,
        system: &HouseSystem,
    ) -> Result<(), StoreError> {
        let HouseSystem { id, rules, secret } = system;
        let millis = |time: Duration| u32::try_from(time.as_millis()).unwrap_or(u32::MAX);
        sqlx::query(
            "REPLACE INTO house_systems (id, channel_id, is_on, address, sealed_secret, asks_publishers, \
             asks_players, unknown_keys, lets_known_in, time_limit_ms, retries, again_s) \
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        )
        .bind(id)
        .bind(Some(*id).filter(|id| *id != HouseSystem::OF_HOUSE))
        .bind(rules.is_on)
        .bind(&rules.address)
        .bind(self.keychain.seal(secret)?)
        .bind(rules.publishers)
        .bind(rules.players)
        .bind(rules.unknown_keys.word())
        .bind(rules.when_silent == WhenSilent::KnownKeys)
        .bind(millis(rules.time_limit))
        .bind(rules.retries)
        .bind(rules.again.map(|again| millis(again) / 1000))
        .execute(&mut **transaction)
        .await?;
        Ok(Self::count_change(transaction, *id).await?)
    }

    /// Forgets a system.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer.
    pub async fn remove_house_system(&self, id: u64) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        Self::delete_house_system(&mut transaction, id).await?;
        Ok(transaction.commit().await?)
    }

    pub(super) async fn delete_house_system(
        transaction: &mut Transaction<'_, MySql>,
        id: u64,
    ) -> Result<(), StoreError> {
        let removed =
            sqlx::query("DELETE FROM house_systems WHERE id = ?").bind(id).execute(&mut **transaction).await?;
        if removed.rows_affected() == 0 {
            return Err(StoreError::NotFound { kind: "house system", name: "asked here".to_owned() });
        }
        Ok(Self::count_change(transaction, id).await?)
    }
}
