use sqlx::Row;
use time::OffsetDateTime;

use super::{time_in, to_column};
use crate::{Store, StoreError};

/// Who from out there was last at a door.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ReachedDoor {
    /// TCP; else UDP.
    pub is_tcp: bool,
    /// The door's port.
    pub port: u16,
    /// The caller's address.
    pub address: String,
    /// When.
    pub at: OffsetDateTime,
}

impl Store {
    /// Writes down who was at doors; what is older than what stands there changes nothing.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not take it.
    pub async fn write_reached_doors(&self, doors: &[ReachedDoor]) -> Result<(), StoreError> {
        for door in doors {
            sqlx::query(
                "INSERT INTO reached_doors (transport, port, address, at) VALUES (?, ?, ?, ?) ON DUPLICATE KEY UPDATE \
                 address = IF(VALUES(at) > at, VALUES(address), address), at = GREATEST(at, VALUES(at))",
            )
            .bind(word(door.is_tcp))
            .bind(door.port)
            .bind(&door.address)
            .bind(to_column(door.at))
            .execute(&self.pool)
            .await?;
        }
        Ok(())
    }

    /// Who was last at each door.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn reached_doors(&self) -> Result<Vec<ReachedDoor>, StoreError> {
        let rows =
            sqlx::query("SELECT transport, port, address, at FROM reached_doors ORDER BY transport, port LIMIT 1000");
        let rows = rows.fetch_all(&self.pool).await?;
        let read = rows.iter().map(|row| {
            let transport: String = row.try_get("transport")?;
            let (port, address) = (row.try_get("port")?, row.try_get("address")?);
            Ok(ReachedDoor { is_tcp: transport == word(true), port, address, at: time_in(row, "at")? })
        });
        read.collect()
    }
}

fn word(is_tcp: bool) -> &'static str {
    if is_tcp { "tcp" } else { "udp" }
}
