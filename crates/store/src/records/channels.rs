use sqlx::mysql::MySqlRow;
use sqlx::{AssertSqlSafe, MySql, Row, Transaction};
use time::OffsetDateTime;
use waverant_relay::{Secret, SlateChoice, Takeover, ViewingRules};

use super::recording::{self, RecordingSettings};
use super::{places, time_in, to_column, viewing};
use crate::{Store, StoreError};

/// All of channels, and where viewers reach the depot to which each is published.
const SELECT: &str = "SELECT channels.*, depots.public_address AS published_address FROM channels \
    LEFT JOIN depots ON depots.name = channels.published_to";

/// What of a channel can be changed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ChannelSettings {
    /// What people read.
    pub title: String,
    /// How long a session waits for a lost publisher, in milliseconds.
    pub hold_ms: u32,
    /// What concerns its recordings.
    pub recording: RecordingSettings,
    /// What becomes of a second publisher.
    pub takeover: Takeover,
    /// What is sent while a session holds.
    pub slate: SlateChoice,
    /// The loudness that its sound is to have, in LUFS; none if nobody chose one.
    pub loudness: Option<i8>,
    /// What it asks of encoders and players over SRT.
    pub srt: SrtTerms,
    /// Who may watch it, and how.
    pub viewing: ViewingRules,
}

/// What a channel asks of encoders and players over SRT, or a destination of us.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SrtTerms {
    /// How long what is lost is waited for, in milliseconds; the other end may ask for more.
    pub latency_ms: u16,
    /// The passphrase that both ends must have; None is without encryption.
    pub passphrase: Option<Secret>,
}

impl Default for SrtTerms {
    fn default() -> Self {
        Self { latency_ms: 500, passphrase: None }
    }
}

fn slate_column(slate: SlateChoice) -> &'static str {
    match slate {
        SlateChoice::None => "none",
        SlateChoice::BuiltIn => "built-in",
        SlateChoice::Uploaded => "uploaded",
    }
}

fn slate_from(column: &str) -> SlateChoice {
    match column {
        "built-in" => SlateChoice::BuiltIn,
        "uploaded" => SlateChoice::Uploaded,
        _ => SlateChoice::None,
    }
}

fn takeover_column(takeover: Takeover) -> &'static str {
    match takeover {
        Takeover::Replace => "replace",
        Takeover::Refuse => "refuse",
    }
}

fn takeover_from(column: &str) -> Takeover {
    if column == "replace" { Takeover::Replace } else { Takeover::Refuse }
}

/// A named place for one live stream at a time.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Channel {
    /// The channel's number.
    pub id: u64,
    /// Its name in addresses.
    pub name: String,
    /// What can be changed.
    pub settings: ChannelSettings,
    /// When it was made.
    pub created_at: OffsetDateTime,
}

impl Store {
    fn read_channel(&self, row: &MySqlRow) -> Result<Channel, StoreError> {
        Ok(Channel {
            id: row.try_get("id")?,
            name: row.try_get("name")?,
            settings: ChannelSettings {
                title: row.try_get("title")?,
                hold_ms: row.try_get("hold_ms")?,
                recording: RecordingSettings::from_row(row)?,
                takeover: takeover_from(row.try_get("takeover")?),
                slate: slate_from(row.try_get("slate")?),
                loudness: row.try_get("loudness_lufs")?,
                srt: self.srt_terms_from(row)?,
                viewing: viewing::from_row(row)?,
            },
            created_at: time_in(row, "created_at")?,
        })
    }

    pub(super) fn srt_terms_from(&self, row: &MySqlRow) -> Result<SrtTerms, StoreError> {
        let sealed: Option<Vec<u8>> = row.try_get("sealed_passphrase")?;
        let passphrase = sealed.map(|sealed| self.keychain.unseal(&sealed)).transpose()?;
        Ok(SrtTerms { latency_ms: row.try_get("srt_latency_ms")?, passphrase })
    }

    pub(super) fn seal_passphrase(&self, terms: &SrtTerms) -> Result<Option<Vec<u8>>, StoreError> {
        terms.passphrase.as_ref().map(|secret| self.keychain.seal(secret)).transpose()
    }

    /// All channels by name.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn channels(&self) -> Result<Vec<Channel>, StoreError> {
        let rows = sqlx::query(AssertSqlSafe(format!("{SELECT} ORDER BY channels.name"))).fetch_all(&self.pool).await?;
        rows.iter().map(|row| self.read_channel(row)).collect()
    }

    /// The channels with these numbers; those that are not there are left out.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn channels_by_id(&self, ids: &[u64]) -> Result<Vec<Channel>, StoreError> {
        let query = format!("{SELECT} WHERE id IN ({})", places(ids.len()));
        let query = ids.iter().fold(sqlx::query(AssertSqlSafe(query)), |query, id| query.bind(id));
        query.fetch_all(&self.pool).await?.iter().map(|row| self.read_channel(row)).collect()
    }

    /// The channel with this name.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer.
    pub async fn channel(&self, name: &str) -> Result<Channel, StoreError> {
        let row = sqlx::query(AssertSqlSafe(format!("{SELECT} WHERE channels.name = ?")))
            .bind(name)
            .fetch_optional(&self.pool)
            .await?;
        let missing = StoreError::NotFound { kind: "channel", name: name.to_owned() };
        self.read_channel(&row.ok_or(missing)?)
    }

    /// Adds a channel.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`], or if the database does not answer.
    pub async fn add_channel(
        &self,
        name: &str,
        settings: &ChannelSettings,
        now: OffsetDateTime,
    ) -> Result<Channel, StoreError> {
        let mut transaction = self.pool.begin().await?;
        self.insert_channel(&mut transaction, name, settings, now).await?;
        transaction.commit().await?;
        self.channel(name).await
    }

    pub(super) async fn insert_channel(
        &self,
        transaction: &mut Transaction<'_, MySql>,
        name: &str,
        settings: &ChannelSettings,
        now: OffsetDateTime,
    ) -> Result<u64, StoreError> {
        let columns = [recording::COLUMNS.as_slice(), &viewing::COLUMNS].concat();
        let added = format!(
            "INSERT INTO channels (name, title, hold_ms, takeover, slate, loudness_lufs, srt_latency_ms, \
             sealed_passphrase, created_at, {}) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?{})",
            columns.join(", "),
            ", ?".repeat(columns.len())
        );
        let query = sqlx::query(AssertSqlSafe(added))
            .bind(name)
            .bind(&settings.title)
            .bind(settings.hold_ms)
            .bind(takeover_column(settings.takeover))
            .bind(slate_column(settings.slate))
            .bind(settings.loudness)
            .bind(settings.srt.latency_ms)
            .bind(self.seal_passphrase(&settings.srt)?)
            .bind(to_column(now));
        let query = viewing::bind(&settings.viewing, settings.recording.bind(query));
        let added = query.execute(&mut **transaction).await;
        let id = added.map_err(StoreError::name_taken(name))?.last_insert_id();
        Self::count_change(transaction, id).await?;
        Ok(id)
    }

    /// Changes a channel.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer.
    pub async fn change_channel(&self, name: &str, settings: &ChannelSettings) -> Result<Channel, StoreError> {
        let id = self.channel(name).await?.id;
        let mut transaction = self.pool.begin().await?;
        self.update_channel(&mut transaction, id, settings).await?;
        transaction.commit().await?;
        self.channel(name).await
    }

    pub(super) async fn update_channel(
        &self,
        transaction: &mut Transaction<'_, MySql>,
        id: u64,
        settings: &ChannelSettings,
    ) -> Result<(), StoreError> {
        let columns = [recording::COLUMNS.as_slice(), &viewing::COLUMNS].concat().join(" = ?, ");
        let changed = format!(
            "UPDATE channels SET title = ?, hold_ms = ?, takeover = ?, slate = ?, loudness_lufs = ?, \
             srt_latency_ms = ?, sealed_passphrase = ?, {columns} = ? WHERE id = ?"
        );
        let query = sqlx::query(AssertSqlSafe(changed))
            .bind(&settings.title)
            .bind(settings.hold_ms)
            .bind(takeover_column(settings.takeover))
            .bind(slate_column(settings.slate))
            .bind(settings.loudness)
            .bind(settings.srt.latency_ms)
            .bind(self.seal_passphrase(&settings.srt)?);
        viewing::bind(&settings.viewing, settings.recording.bind(query)).bind(id).execute(&mut **transaction).await?;
        Ok(Self::count_change(transaction, id).await?)
    }

    /// Removes a channel with its keys; sessions and takes stay.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer.
    pub async fn remove_channel(&self, name: &str) -> Result<(), StoreError> {
        let id = self.channel(name).await?.id;
        let mut transaction = self.pool.begin().await?;
        Self::delete_channel(&mut transaction, id, name).await?;
        Ok(transaction.commit().await?)
    }

    pub(super) async fn delete_channel(
        transaction: &mut Transaction<'_, MySql>,
        id: u64,
        name: &str,
    ) -> Result<(), StoreError> {
        let done = sqlx::query("DELETE FROM channels WHERE id = ?").bind(id).execute(&mut **transaction).await?;
        Self::count_change(transaction, id).await?;
        match done.rows_affected() {
            0 => Err(StoreError::NotFound { kind: "channel", name: name.to_owned() }),
            _ => Ok(()),
        }
    }
}
