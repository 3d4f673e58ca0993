use sqlx::Row;
use sqlx::mysql::MySqlRow;
use time::OffsetDateTime;

use super::{time_in, to_column};
use crate::{Secret, Store, StoreError};

/// A platform's address and key under a name of the user's own.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Destination {
    /// The destination's number.
    pub id: u64,
    /// Its name.
    pub name: String,
    /// Where it is: `rtmp://host/app`, or `rtmps://` for TLS.
    pub address: String,
    /// The only authority (PEM) that may sign its certificate; none: those of this machine.
    pub authority: Option<String>,
    /// The key for it.
    pub key: Secret,
    /// When it was made.
    pub created_at: OffsetDateTime,
}

/// A destination of a channel.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ChannelDestination {
    /// The channel.
    pub channel_id: u64,
    /// The destination.
    pub destination: Destination,
    /// Whether the channel's sessions are sent there.
    pub switched_on: bool,
}

impl Store {
    fn destination_from(&self, row: &MySqlRow) -> Result<Destination, StoreError> {
        let sealed: Vec<u8> = row.try_get("sealed_key")?;
        Ok(Destination {
            id: row.try_get("id")?,
            name: row.try_get("name")?,
            address: row.try_get("address")?,
            authority: row.try_get("authority")?,
            key: self.keychain.unseal(&sealed)?,
            created_at: time_in(row, "created_at")?,
        })
    }

    /// All destinations by name.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer or a key cannot be opened.
    pub async fn destinations(&self) -> Result<Vec<Destination>, StoreError> {
        let rows = sqlx::query("SELECT * FROM destinations ORDER BY name").fetch_all(&self.pool).await?;
        rows.iter().map(|row| self.destination_from(row)).collect()
    }

    /// The destination with this name.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer.
    pub async fn destination(&self, name: &str) -> Result<Destination, StoreError> {
        let row =
            sqlx::query("SELECT * FROM destinations WHERE name = ?").bind(name).fetch_optional(&self.pool).await?;
        let missing = StoreError::NotFound { kind: "destination", name: name.to_owned() };
        self.destination_from(&row.ok_or(missing)?)
    }

    /// Adds a destination.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`], or if the database does not answer.
    pub async fn add_destination(
        &self,
        name: &str,
        address: &str,
        authority: Option<&str>,
        key: &Secret,
        now: OffsetDateTime,
    ) -> Result<Destination, StoreError> {
        sqlx::query(
            "INSERT INTO destinations (name, address, authority, sealed_key, created_at) VALUES (?, ?, ?, ?, ?)",
        )
        .bind(name)
        .bind(address)
        .bind(authority)
        .bind(self.keychain.seal(key)?)
        .bind(to_column(now))
        .execute(&self.pool)
        .await
        .map_err(StoreError::name_taken(name))?;
        self.destination(name).await
    }

    /// Changes a destination's address and authority, and its key if one is given.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer.
    pub async fn change_destination(
        &self,
        name: &str,
        address: &str,
        authority: Option<&str>,
        key: Option<&Secret>,
    ) -> Result<Destination, StoreError> {
        let sealed = key.map(|key| self.keychain.seal(key)).transpose()?;
        sqlx::query(
            "UPDATE destinations SET address = ?, authority = ?, sealed_key = COALESCE(?, sealed_key) WHERE name = ?",
        )
        .bind(address)
        .bind(authority)
        .bind(sealed)
        .bind(name)
        .execute(&self.pool)
        .await?;
        self.destination(name).await
    }

    /// Removes a destination, from all channels too.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer.
    pub async fn remove_destination(&self, name: &str) -> Result<(), StoreError> {
        let done = sqlx::query("DELETE FROM destinations WHERE name = ?").bind(name).execute(&self.pool).await?;
        match done.rows_affected() {
            0 => Err(StoreError::NotFound { kind: "destination", name: name.to_owned() }),
            _ => Ok(()),
        }
    }

    /// The destinations of all channels.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn channel_destinations(&self) -> Result<Vec<ChannelDestination>, StoreError> {
        let rows = sqlx::query(
            "SELECT channel_id, switched_on, destinations.* FROM channel_destinations \
             JOIN destinations ON destinations.id = destination_id ORDER BY channel_id, destinations.name",
        )
        .fetch_all(&self.pool)
        .await?;
        let from_row = |row: &MySqlRow| {
            Ok(ChannelDestination {
                channel_id: row.try_get("channel_id")?,
                destination: self.destination_from(row)?,
                switched_on: row.try_get("switched_on")?,
            })
        };
        rows.iter().map(from_row).collect()
    }

    /// Gives a channel a destination, or switches one that it has.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn set_channel_destination(
        &self,
        channel_id: u64,
        destination_id: u64,
        switched_on: bool,
    ) -> Result<(), StoreError> {
        sqlx::query(
            "INSERT INTO channel_destinations (channel_id, destination_id, switched_on) VALUES (?, ?, ?) \
             ON DUPLICATE KEY UPDATE switched_on = VALUES(switched_on)",
        )
        .bind(channel_id)
        .bind(destination_id)
        .bind(switched_on)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Takes a destination from a channel.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn remove_channel_destination(&self, channel_id: u64, destination_id: u64) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM channel_destinations WHERE channel_id = ? AND destination_id = ?")
            .bind(channel_id)
            .bind(destination_id)
            .execute(&self.pool)
            .await?;
        Ok(())
    }
}
