use sqlx::mysql::{MySqlArguments, MySqlRow};
use sqlx::query::Query;
use sqlx::{AssertSqlSafe, MySql, Row, Transaction};
use time::OffsetDateTime;
use waverant_relay::Secret;

use super::channels::SrtTerms;
use super::{places, time_in, to_column};
use crate::{Store, StoreError};

/// A platform's address and key under a name of the user's own.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Destination {
    /// The destination's number.
    pub id: u64,
    /// Its name.
    pub name: String,
    /// What can be changed.
    pub settings: DestinationSettings,
    /// The key for it.
    pub key: Secret,
    /// When it was made.
    pub created_at: OffsetDateTime,
}

/// What can be changed about a destination, but its key.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct DestinationSettings {
    /// Where it is: `rtmp://host/app`, `rtmps://` for TLS, or `srt://host:port`.
    pub address: String,
    /// The only authority (PEM) that may sign its certificate; none: those of this machine.
    pub authority: Option<String>,
    /// How long packets are collected before they are sent, in milliseconds.
    pub batch_ms: u16,
    /// What it accepts, as JSON.
    pub limits_sheet: Option<String>,
    /// The track of sound that it gets; none for all that it takes.
    pub audio_pick: Option<String>,
    /// True if it gets no sound when there is no such track; else the first.
    pub or_no_audio: bool,
    /// The track of pictures that it gets, counted from 1; none for all that it takes.
    pub video_track: Option<u8>,
    /// What it asks for over SRT.
    pub srt: SrtTerms,
}

/// How a channel sends to a destination.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Sending {
    /// Whether the channel's sessions are sent there.
    pub switched_on: bool,
    /// How much later than the source, in milliseconds.
    pub delay_ms: u32,
    /// How much later than the show it starts, in milliseconds.
    pub start_after_ms: u32,
}

const OF_CHANNELS: &str = "SELECT channel_id, switched_on, delay_ms, start_after_ms, destinations.* \
     FROM channel_destinations JOIN destinations ON destinations.id = destination_id";

fn otherwise_column(or_no_audio: bool) -> &'static str {
    if or_no_audio { "none" } else { "first" }
}

/// A destination of a channel.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ChannelDestination {
    /// The channel.
    pub channel_id: u64,
    /// The destination.
    pub destination: Destination,
    /// How the channel's sessions are sent there.
    pub sending: Sending,
}

impl Store {
    fn destination_from(&self, row: &MySqlRow) -> Result<Destination, StoreError> {
        let sealed: Vec<u8> = row.try_get("sealed_key")?;
        Ok(Destination {
            id: row.try_get("id")?,
            name: row.try_get("name")?,
            settings: DestinationSettings {
                address: row.try_get("address")?,
                authority: row.try_get("authority")?,
                batch_ms: row.try_get("batch_ms")?,
                limits_sheet: row.try_get("limits_sheet")?,
                audio_pick: row.try_get("audio_pick")?,
                or_no_audio: row.try_get::<&str, _>("audio_otherwise")? == "none",
                video_track: row.try_get("video_track")?,
                srt: self.srt_terms_from(row)?,
            },
            key: self.keychain.unseal(&sealed)?,
            created_at: time_in(row, "created_at")?,
        })
    }

    /// Binds the settings in the order of their columns.
    fn bind_settings<'a>(
        &self,
        query: Query<'a, MySql, MySqlArguments>,
        settings: &'a DestinationSettings,
    ) -> Result<Query<'a, MySql, MySqlArguments>, StoreError> {
        Ok(query
            .bind(&settings.address)
            .bind(&settings.authority)
            .bind(settings.batch_ms)
            .bind(&settings.limits_sheet)
            .bind(&settings.audio_pick)
            .bind(otherwise_column(settings.or_no_audio))
            .bind(settings.video_track)
            .bind(settings.srt.latency_ms)
            .bind(self.seal_passphrase(&settings.srt)?))
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
        settings: &DestinationSettings,
        key: &Secret,
        now: OffsetDateTime,
    ) -> Result<Destination, StoreError> {
        let mut transaction = self.pool.begin().await?;
        self.insert_destination(&mut transaction, name, (settings, key), now).await?;
        transaction.commit().await?;
        self.destination(name).await
    }

    pub(super) async fn insert_destination(
        &self,
        transaction: &mut Transaction<'_, MySql>,
        name: &str,
        (settings, key): (&DestinationSettings, &Secret),
        now: OffsetDateTime,
    ) -> Result<u64, StoreError> {
        let added = sqlx::query(
            "INSERT INTO destinations (name, address, authority, batch_ms, limits_sheet, audio_pick, \
             audio_otherwise, video_track, srt_latency_ms, sealed_passphrase, sealed_key, created_at) \
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        );
        let added = self
            .bind_settings(added.bind(name), settings)?
            .bind(self.keychain.seal(key)?)
            .bind(to_column(now))
            .execute(&mut **transaction)
            .await
            .map_err(StoreError::name_taken(name))?;
        Ok(added.last_insert_id())
    }

    /// Changes a destination, and its key if one is given. Returns it with the channels that have it.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer.
    pub async fn change_destination(
        &self,
        name: &str,
        settings: &DestinationSettings,
        key: Option<&Secret>,
    ) -> Result<(Destination, Vec<u64>), StoreError> {
        let id = self.destination(name).await?.id;
        let mut transaction = self.pool.begin().await?;
        let channels = self.update_destination(&mut transaction, id, (settings, key)).await?;
        transaction.commit().await?;
        Ok((self.destination(name).await?, channels))
    }

    pub(super) async fn update_destination(
        &self,
        transaction: &mut Transaction<'_, MySql>,
        id: u64,
        (settings, key): (&DestinationSettings, Option<&Secret>),
    ) -> Result<Vec<u64>, StoreError> {
        let sealed = key.map(|key| self.keychain.seal(key)).transpose()?;
        let changed = sqlx::query(
            "UPDATE destinations SET address = ?, authority = ?, batch_ms = ?, limits_sheet = ?, audio_pick = ?, \
             audio_otherwise = ?, video_track = ?, srt_latency_ms = ?, sealed_passphrase = ?, sealed_key = COALESCE(?, sealed_key) \
             WHERE id = ?",
        );
        self.bind_settings(changed, settings)?.bind(sealed).bind(id).execute(&mut **transaction).await?;
        Ok(Self::count_changes_by(transaction, id).await?)
    }

    /// Removes a destination, from all channels too. Returns those channels.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer.
    pub async fn remove_destination(&self, name: &str) -> Result<Vec<u64>, StoreError> {
        let id = self.destination(name).await?.id;
        let mut transaction = self.pool.begin().await?;
        let channels = Self::delete_destination(&mut transaction, id, name).await?;
        transaction.commit().await?;
        Ok(channels)
    }

    pub(super) async fn delete_destination(
        transaction: &mut Transaction<'_, MySql>,
        id: u64,
        name: &str,
    ) -> Result<Vec<u64>, StoreError> {
        let channels = Self::count_changes_by(transaction, id).await?;
        let done = sqlx::query("DELETE FROM destinations WHERE id = ?").bind(id).execute(&mut **transaction).await?;
        match done.rows_affected() {
            0 => Err(StoreError::NotFound { kind: "destination", name: name.to_owned() }),
            _ => Ok(channels),
        }
    }

    /// The destinations of all channels.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn channel_destinations(&self) -> Result<Vec<ChannelDestination>, StoreError> {
        let query = format!("{OF_CHANNELS} ORDER BY channel_id, destinations.name");
        self.channel_destinations_from(&sqlx::query(AssertSqlSafe(query)).fetch_all(&self.pool).await?)
    }

    /// The destinations of these channels.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn destinations_of(&self, channel_ids: &[u64]) -> Result<Vec<ChannelDestination>, StoreError> {
        let among = places(channel_ids.len());
        let query = format!("{OF_CHANNELS} WHERE channel_id IN ({among}) ORDER BY channel_id, destinations.name");
        let query = channel_ids.iter().fold(sqlx::query(AssertSqlSafe(query)), |query, id| query.bind(id));
        self.channel_destinations_from(&query.fetch_all(&self.pool).await?)
    }

    fn channel_destinations_from(&self, rows: &[MySqlRow]) -> Result<Vec<ChannelDestination>, StoreError> {
        let from_row = |row: &MySqlRow| {
            Ok(ChannelDestination {
                channel_id: row.try_get("channel_id")?,
                destination: self.destination_from(row)?,
                sending: Sending {
                    switched_on: row.try_get("switched_on")?,
                    delay_ms: row.try_get("delay_ms")?,
                    start_after_ms: row.try_get("start_after_ms")?,
                },
            })
        };
        rows.iter().map(from_row).collect()
    }

    /// Gives a channel a destination, or changes how it sends to one that it has.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn set_channel_destination(
        &self,
        channel_id: u64,
        destination_id: u64,
        sending: Sending,
    ) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        Self::replace_sending(&mut transaction, (channel_id, destination_id), sending).await?;
        Ok(transaction.commit().await?)
    }

    pub(super) async fn replace_sending(
        transaction: &mut Transaction<'_, MySql>,
        (channel_id, destination_id): (u64, u64),
        sending: Sending,
    ) -> Result<(), StoreError> {
        sqlx::query(
            "REPLACE INTO channel_destinations (channel_id, destination_id, switched_on, delay_ms, start_after_ms) \
             VALUES (?, ?, ?, ?, ?)",
        )
        .bind(channel_id)
        .bind(destination_id)
        .bind(sending.switched_on)
        .bind(sending.delay_ms)
        .bind(sending.start_after_ms)
        .execute(&mut **transaction)
        .await?;
        Ok(Self::count_change(transaction, channel_id).await?)
    }

    /// Takes a destination from a channel.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn remove_channel_destination(&self, channel_id: u64, destination_id: u64) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        Self::delete_sending(&mut transaction, (channel_id, destination_id)).await?;
        Ok(transaction.commit().await?)
    }

    pub(super) async fn delete_sending(
        transaction: &mut Transaction<'_, MySql>,
        (channel_id, destination_id): (u64, u64),
    ) -> Result<(), StoreError> {
        sqlx::query("DELETE FROM channel_destinations WHERE channel_id = ? AND destination_id = ?")
            .bind(channel_id)
            .bind(destination_id)
            .execute(&mut **transaction)
            .await?;
        Ok(Self::count_change(transaction, channel_id).await?)
    }
}
