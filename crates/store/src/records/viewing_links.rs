use sqlx::mysql::MySqlRow;
use sqlx::{AssertSqlSafe, MySql, Row, Transaction};
use time::OffsetDateTime;
use waverant_relay::{Secret, Site, ViewingLink};

use super::viewing::{most_viewers_from, sites_column, sites_from};
use super::{fitted, places, time_in, to_column};
use crate::{Keychain, Store, StoreError};

/// Links of one channel.
const MOST_LINKS: u32 = 500;

/// A link to be made.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NewViewingLink {
    /// For whom.
    pub label: String,
    /// When it ends.
    pub ends_at: OffsetDateTime,
    /// How many may watch by it at a time; None is as many as the channel takes.
    pub most_viewers: Option<u32>,
    /// The sites whose pages alone may show it; none for anywhere.
    pub sites: Vec<Site>,
    /// Whether rehearsals are shown to who has it.
    pub shows_rehearsals: bool,
    /// The take that it leads to, instead of to what is on air.
    pub take: Option<(u64, u32)>,
}

fn link_from(keychain: &Keychain, row: &MySqlRow) -> Result<ViewingLink, StoreError> {
    let (id, channel_id): (u64, u64) = (row.try_get("id")?, row.try_get("channel_id")?);
    let created_at = time_in(row, "created_at")?;
    // With its time: a number that comes again, in a database that was set back, is another link.
    let made = created_at.unix_timestamp_nanos() / 1_000;
    let signature = keychain.sign(&format!("viewing link {id} of channel {channel_id} made {made}"));
    let take: (Option<u64>, Option<u32>) = (row.try_get("take_session_id")?, row.try_get("take_number")?);
    Ok(ViewingLink {
        id,
        channel_id,
        label: row.try_get("label")?,
        token: Secret::new(format!("{id}-{signature}")),
        created_at,
        ends_at: time_in(row, "ends_at")?,
        most_viewers: most_viewers_from(row)?,
        sites: sites_from(row, "sites")?,
        shows_rehearsals: row.try_get("shows_rehearsals")?,
        take: take.0.zip(take.1),
    })
}

impl Store {
    /// All links.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn all_viewing_links(&self) -> Result<Vec<ViewingLink>, StoreError> {
        let rows = sqlx::query("SELECT * FROM viewing_links ORDER BY id").fetch_all(&self.pool).await?;
        rows.iter().map(|row| link_from(&self.keychain, row)).collect()
    }

    /// The links of these channels.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn viewing_links_of(&self, channel_ids: &[u64]) -> Result<Vec<ViewingLink>, StoreError> {
        let query =
            format!("SELECT * FROM viewing_links WHERE channel_id IN ({}) ORDER BY id", places(channel_ids.len()));
        let query = channel_ids.iter().fold(sqlx::query(AssertSqlSafe(query)), |query, id| query.bind(id));
        query.fetch_all(&self.pool).await?.iter().map(|row| link_from(&self.keychain, row)).collect()
    }

    /// Makes a link; those of the channel that ended long ago make room for it.
    ///
    /// # Errors
    /// [`StoreError::TooMany`] if the channel has as many as it may, or if the database does not answer.
    pub async fn add_viewing_link(
        &self,
        channel_id: u64,
        new: &NewViewingLink,
        now: OffsetDateTime,
    ) -> Result<ViewingLink, StoreError> {
        let mut transaction = self.pool.begin().await?;
        let id = Self::insert_link(&mut transaction, channel_id, new, now).await?;
        let row = sqlx::query("SELECT * FROM viewing_links WHERE id = ?").bind(id).fetch_one(&mut *transaction).await?;
        transaction.commit().await?;
        link_from(&self.keychain, &row)
    }

    pub(super) async fn insert_link(
        transaction: &mut Transaction<'_, MySql>,
        channel_id: u64,
        new: &NewViewingLink,
        now: OffsetDateTime,
    ) -> Result<u64, StoreError> {
        sqlx::query("DELETE FROM viewing_links WHERE channel_id = ? AND ends_at < ? - INTERVAL 30 DAY")
            .bind(channel_id)
            .bind(to_column(now))
            .execute(&mut **transaction)
            .await?;
        let added = sqlx::query(
            "INSERT INTO viewing_links (channel_id, label, created_at, ends_at, most_viewers, sites, shows_rehearsals, \
             take_session_id, take_number) SELECT ?, ?, ?, ?, ?, ?, ?, ?, ? FROM DUAL \
             WHERE (SELECT COUNT(*) FROM viewing_links WHERE channel_id = ?) < ?",
        )
        .bind(channel_id)
        .bind(fitted(&new.label, 96))
        .bind(to_column(now))
        .bind(to_column(new.ends_at))
        .bind(new.most_viewers.unwrap_or(0))
        .bind(sites_column(&new.sites))
        .bind(new.shows_rehearsals)
        .bind(new.take.map(|(session, _)| session))
        .bind(new.take.map(|(_, number)| number))
        .bind(channel_id)
        .bind(MOST_LINKS)
        .execute(&mut **transaction)
        .await?;
        if added.rows_affected() == 0 {
            return Err(StoreError::TooMany { what: "links", most: MOST_LINKS });
        }
        Self::count_change(transaction, channel_id).await?;
        Ok(added.last_insert_id())
    }

    /// Changes a link; its address stays.
    pub(super) async fn update_link(
        transaction: &mut Transaction<'_, MySql>,
        (channel_id, id): (u64, u64),
        link: &NewViewingLink,
    ) -> Result<(), StoreError> {
        sqlx::query(
            "UPDATE viewing_links SET label = ?, ends_at = ?, most_viewers = ?, sites = ?, shows_rehearsals = ? \
             WHERE channel_id = ? AND id = ?",
        )
        .bind(fitted(&link.label, 96))
        .bind(to_column(link.ends_at))
        .bind(link.most_viewers.unwrap_or(0))
        .bind(sites_column(&link.sites))
        .bind(link.shows_rehearsals)
        .bind(channel_id)
        .bind(id)
        .execute(&mut **transaction)
        .await?;
        Ok(Self::count_change(transaction, channel_id).await?)
    }

    /// Revokes a link of a channel.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer.
    pub async fn remove_viewing_link(&self, channel_id: u64, id: u64) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        Self::delete_link(&mut transaction, (channel_id, id)).await?;
        Ok(transaction.commit().await?)
    }

    pub(super) async fn delete_link(
        transaction: &mut Transaction<'_, MySql>,
        (channel_id, id): (u64, u64),
    ) -> Result<(), StoreError> {
        let done = sqlx::query("DELETE FROM viewing_links WHERE channel_id = ? AND id = ?")
            .bind(channel_id)
            .bind(id)
            .execute(&mut **transaction)
            .await?;
        Self::count_change(transaction, channel_id).await?;
        match done.rows_affected() {
            0 => Err(StoreError::NotFound { kind: "link", name: id.to_string() }),
            _ => Ok(()),
        }
    }
}
