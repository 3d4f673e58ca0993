use sqlx::{MySql, Row, Transaction};

use crate::{Store, StoreError};

impl Store {
    /// Counts a change of a channel, or of its keys or destinations, with the change itself.
    pub(super) async fn count_change(
        transaction: &mut Transaction<'_, MySql>,
        channel_id: u64,
    ) -> Result<(), sqlx::Error> {
        sqlx::query(
            "INSERT INTO versions (kind, id, version) VALUES ('channel', ?, 1) \
             ON DUPLICATE KEY UPDATE version = version + 1",
        )
        .bind(channel_id)
        .execute(&mut **transaction)
        .await?;
        Ok(())
    }

    /// Counts a change of all channels that have a destination; returns them.
    pub(super) async fn count_changes_by(
        transaction: &mut Transaction<'_, MySql>,
        destination_id: u64,
    ) -> Result<Vec<u64>, sqlx::Error> {
        let channels: Vec<u64> =
            sqlx::query_scalar("SELECT channel_id FROM channel_destinations WHERE destination_id = ?")
                .bind(destination_id)
                .fetch_all(&mut **transaction)
                .await?;
        for channel in &channels {
            Self::count_change(transaction, *channel).await?;
        }
        Ok(channels)
    }

    /// How often each channel was changed; channels that never were are left out.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn channel_versions(&self) -> Result<Vec<(u64, u64)>, StoreError> {
        let rows = sqlx::query("SELECT id, version FROM versions WHERE kind = 'channel'").fetch_all(&self.pool).await?;
        rows.iter().map(|row| Ok((row.try_get("id")?, row.try_get("version")?))).collect()
    }
}
