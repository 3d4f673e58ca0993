use sqlx::{MySql, Transaction};
use time::{Duration, OffsetDateTime};
use waverant_relay::{KeyUse, Secret, WhenOver};

use super::{
    GuestLink, KeyPassword, KeyRenewal, KeyTerms, MadeStreamKey, NewStreamKey, StreamKey, key_from, right_column,
};
use crate::records::{fitted, places, to_column};
use crate::secrets::{new_guest_token, new_key_name, new_stream_key};
use crate::{Store, StoreError};

/// How long a retired key is told of, and who still comes with it.
const RETIRED_KEPT: Duration = Duration::days(90);

/// Keys of a channel.
const MOST_KEYS: u32 = 1000;

/// Makes what an encoder's answer to a challenge is checked by, of the key's name and the key.
type PasswordOf<'a> = &'a (dyn Fn(&str, &Secret) -> KeyPassword + Sync);

impl Store {
    /// Makes stream keys, all or none. The keys themselves are not kept and cannot be shown again. `password` tells by
    /// what an encoder's answer to a challenge is checked that has a key as its password.
    ///
    /// # Errors
    /// [`StoreError::NameTaken`] with the label if one was chosen that is a key already, [`StoreError::TooMany`], or if
    /// the database does not answer.
    pub async fn add_keys(
        &self,
        channel_id: u64,
        new: &[NewStreamKey],
        now: OffsetDateTime,
        password: PasswordOf<'_>,
    ) -> Result<Vec<MadeStreamKey>, StoreError> {
        let mut transaction = self.pool.begin().await?;
        let mut made = Vec::with_capacity(new.len());
        for new in new {
            made.push(self.insert_key(&mut transaction, (channel_id, None), new, now, password).await?);
        }
        Self::check_key_count(&mut transaction, channel_id).await?;
        Self::count_change(&mut transaction, channel_id).await?;
        transaction.commit().await?;
        Ok(made)
    }

    pub(in crate::records) async fn check_key_count(
        transaction: &mut Transaction<'_, MySql>,
        channel_id: u64,
    ) -> Result<(), StoreError> {
        let count: i64 = sqlx::query_scalar("SELECT COUNT(*) FROM stream_keys WHERE channel_id = ?")
            .bind(channel_id)
            .fetch_one(&mut **transaction)
            .await?;
        if count > i64::from(MOST_KEYS) {
            return Err(StoreError::TooMany { what: "stream keys on this channel", most: MOST_KEYS });
        }
        Ok(())
    }

    /// Makes a key that takes the place of another with all that is said of it; until `both_until` both open. A show
    /// that the old one opened goes on. `check` sees the old one as it is at that moment.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer; or that of `check`.
    pub async fn renew_key<E: From<StoreError>>(
        &self,
        (channel_id, id): (u64, u64),
        renewal: KeyRenewal,
        password: PasswordOf<'_>,
        check: impl FnOnce(&StreamKey) -> Result<(), E>,
    ) -> Result<MadeStreamKey, E> {
        let mut transaction = self.pool.begin().await.map_err(StoreError::from)?;
        let old = self.locked_key(&mut transaction, channel_id, id).await?;
        check(&old)?;
        let made = self.write_renewal(&mut transaction, &old, renewal, password).await?;
        transaction.commit().await.map_err(StoreError::from)?;
        Ok(made)
    }

    async fn write_renewal(
        &self,
        transaction: &mut Transaction<'_, MySql>,
        old: &StreamKey,
        renewal: KeyRenewal,
        password: PasswordOf<'_>,
    ) -> Result<MadeStreamKey, StoreError> {
        let KeyRenewal { both_until, guest_until, now } = renewal;
        let new = NewStreamKey { right: old.right, terms: old.terms.clone(), own: None, guest_until };
        let made = self.insert_key(transaction, (old.channel_id, Some(old.family)), &new, now, password).await?;
        sqlx::query(
            "UPDATE stream_keys SET expires_at = LEAST(COALESCE(expires_at, ?), ?), show_goes_on = TRUE, \
             guest_digest = NULL, sealed_for_guest = NULL, guest_until = NULL WHERE id = ?",
        )
        .bind(to_column(both_until))
        .bind(to_column(both_until))
        .bind(old.id)
        .execute(&mut **transaction)
        .await?;
        Self::count_change(transaction, old.channel_id).await?;
        Ok(made)
    }

    /// Changes what may be changed of a key; `change` sees it as it is at that moment. Returns it before and after.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer; or that of `change`.
    pub async fn change_key<E: From<StoreError>>(
        &self,
        channel_id: u64,
        id: u64,
        change: impl FnOnce(&StreamKey) -> Result<KeyTerms, E>,
    ) -> Result<(StreamKey, StreamKey), E> {
        let failed = |error: sqlx::Error| E::from(StoreError::from(error));
        let mut transaction = self.pool.begin().await.map_err(failed)?;
        let before = self.locked_key(&mut transaction, channel_id, id).await?;
        let terms = change(&before)?;
        self.update_terms(&mut transaction, id, &terms).await?;
        Self::count_change(&mut transaction, channel_id).await.map_err(failed)?;
        transaction.commit().await.map_err(failed)?;
        let after = StreamKey { terms, ..before.clone() };
        Ok((before, after))
    }

    pub(in crate::records) async fn update_terms(
        &self,
        transaction: &mut Transaction<'_, MySql>,
        id: u64,
        terms: &KeyTerms,
    ) -> Result<(), StoreError> {
        let columns = RuleColumns::of(terms);
        sqlx::query(
            "UPDATE stream_keys SET label = ?, rank_number = ?, starts_at = ?, expires_at = ?, hours = ?, \
             hours_zone = ?, allowed_from = ?, protocols = ?, most_connections = ?, show_goes_on = ?, \
             sealed_passphrase = ? WHERE id = ?",
        )
        .bind(fitted(&terms.label, 96))
        .bind(terms.rank)
        .bind(terms.rules.starts_at.map(to_column))
        .bind(terms.rules.expires_at.map(to_column))
        .bind(columns.hours)
        .bind(columns.hours_zone)
        .bind(columns.allowed_from)
        .bind(columns.protocols)
        .bind(terms.rules.most_connections)
        .bind(terms.rules.when_over == WhenOver::ShowGoesOn)
        .bind(terms.passphrase.as_ref().map(|passphrase| self.keychain.seal(passphrase)).transpose()?)
        .bind(id)
        .execute(&mut **transaction)
        .await?;
        Ok(())
    }

    /// Retires a key: it opens nothing from now on. One that was retired while its show went on may be retired again
    /// with the show.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer.
    pub async fn retire_key(
        &self,
        channel_id: u64,
        id: u64,
        show: WhenOver,
        now: OffsetDateTime,
    ) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        self.write_retired(&mut transaction, (channel_id, id), show, now).await?;
        Ok(transaction.commit().await?)
    }

    pub(in crate::records) async fn write_retired(
        &self,
        transaction: &mut Transaction<'_, MySql>,
        (channel_id, id): (u64, u64),
        show: WhenOver,
        now: OffsetDateTime,
    ) -> Result<(), StoreError> {
        self.locked_key(transaction, channel_id, id).await?;
        sqlx::query(
            "UPDATE stream_keys SET retired_at = COALESCE(retired_at, ?), retired_show_goes_on = ?, \
             guest_digest = NULL, sealed_for_guest = NULL, guest_until = NULL WHERE id = ?",
        )
        .bind(to_column(now))
        .bind(show == WhenOver::ShowGoesOn)
        .bind(id)
        .execute(&mut **transaction)
        .await?;
        Ok(Self::count_change(transaction, channel_id).await?)
    }

    /// Ends the guest's link of a key; the key stays.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer.
    pub async fn end_guest_link(&self, channel_id: u64, id: u64) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        let key = self.locked_key(&mut transaction, channel_id, id).await?;
        if key.guest.is_none() {
            return Err(StoreError::NotFound { kind: "guest's link of the key", name: id.to_string() });
        }
        sqlx::query(
            "UPDATE stream_keys SET guest_digest = NULL, sealed_for_guest = NULL, guest_until = NULL WHERE id = ?",
        )
        .bind(id)
        .execute(&mut *transaction)
        .await?;
        Self::count_change(&mut transaction, channel_id).await?;
        Ok(transaction.commit().await?)
    }

    /// Removes a stream key of a channel.
    ///
    /// # Errors
    /// [`StoreError::NotFound`], or if the database does not answer.
    pub async fn remove_key(&self, channel_id: u64, id: u64) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        let done = sqlx::query("DELETE FROM stream_keys WHERE channel_id = ? AND id = ?")
            .bind(channel_id)
            .bind(id)
            .execute(&mut *transaction)
            .await?;
        Self::count_change(&mut transaction, channel_id).await?;
        transaction.commit().await?;
        match done.rows_affected() {
            0 => Err(not_found(id)),
            _ => Ok(()),
        }
    }

    /// Notes that somebody was let in by a key. No change of the channel: nobody decides by it.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn write_key_use(&self, used: &KeyUse) -> Result<(), StoreError> {
        sqlx::query(
            "UPDATE stream_keys SET last_used_at = ?, last_used_from = ?, last_used_by = ?, last_used_over = ? \
             WHERE id = ? AND (last_used_at IS NULL OR last_used_at <= ?)",
        )
        .bind(to_column(used.used_at))
        .bind(fitted(&used.address, 64))
        .bind(fitted(&used.encoder, 96))
        .bind(fitted(&used.protocol, 8))
        .bind(used.key_id)
        .bind(to_column(used.used_at))
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Forgets what guests' links held whose time is over, and keys that were retired long ago. Returns the channels.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn forget_old_keys(&self, now: OffsetDateTime) -> Result<Vec<u64>, StoreError> {
        let (now, retired_before) = (to_column(now), to_column(now - RETIRED_KEPT));
        let mut transaction = self.pool.begin().await?;
        let channels: Vec<u64> =
            sqlx::query_scalar("SELECT DISTINCT channel_id FROM stream_keys WHERE guest_until <= ? OR retired_at < ?")
                .bind(now)
                .bind(retired_before)
                .fetch_all(&mut *transaction)
                .await?;
        if channels.is_empty() {
            return Ok(channels);
        }
        sqlx::query("DELETE FROM stream_keys WHERE retired_at < ?")
            .bind(retired_before)
            .execute(&mut *transaction)
            .await?;
        sqlx::query(
            "UPDATE stream_keys SET guest_digest = NULL, sealed_for_guest = NULL, guest_until = NULL \
             WHERE guest_until <= ?",
        )
        .bind(now)
        .execute(&mut *transaction)
        .await?;
        for channel in &channels {
            Self::count_change(&mut transaction, *channel).await?;
        }
        transaction.commit().await?;
        Ok(channels)
    }

    async fn locked_key(
        &self,
        transaction: &mut Transaction<'_, MySql>,
        channel_id: u64,
        id: u64,
    ) -> Result<StreamKey, StoreError> {
        let row = sqlx::query("SELECT * FROM stream_keys WHERE channel_id = ? AND id = ? FOR UPDATE")
            .bind(channel_id)
            .bind(id)
            .fetch_optional(&mut **transaction)
            .await?;
        key_from(&self.keychain, &row.ok_or_else(|| not_found(id))?)
    }

    pub(in crate::records) async fn insert_key(
        &self,
        transaction: &mut Transaction<'_, MySql>,
        (channel_id, family): (u64, Option<u64>),
        new: &NewStreamKey,
        now: OffsetDateTime,
        password: PasswordOf<'_>,
    ) -> Result<MadeStreamKey, StoreError> {
        let secret = new.own.clone().unwrap_or_else(new_stream_key);
        let prefix = if new.own.is_some() { new_key_name() } else { secret.prefix().to_owned() };
        let password = password(&prefix, &secret);
        let guest = new.guest_until.map(|until| self.new_guest_link(&secret, until)).transpose()?;
        let (guest_token, guest) = guest.unzip();
        let query = format!(
            "INSERT INTO stream_keys (channel_id, family, key_right, label, prefix, is_own, digest, created_at, \
             password_salt, sealed_password_digest, guest_digest, sealed_for_guest, guest_until) VALUES ({})",
            places(13)
        );
        let added = sqlx::query(sqlx::AssertSqlSafe(query))
            .bind(channel_id)
            .bind(family)
            .bind(right_column(new.right))
            .bind(fitted(&new.terms.label, 96))
            .bind(&prefix)
            .bind(new.own.is_some())
            .bind(&self.keychain.digest(secret.reveal())[..])
            .bind(to_column(now))
            .bind(&password.salt)
            .bind(self.keychain.seal(&password.digest)?)
            .bind(guest.as_ref().map(|guest| &guest.digest[..]))
            .bind(guest.as_ref().map(|guest| &guest.sealed[..]))
            .bind(guest.as_ref().map(|guest| to_column(guest.until)))
            .execute(&mut **transaction)
            .await
            .map_err(StoreError::name_taken(&new.terms.label))?;
        let id = added.last_insert_id();
        self.update_terms(transaction, id, &new.terms).await?;
        let key = self.locked_key(transaction, channel_id, id).await?;
        Ok(MadeStreamKey { key, secret, guest_token })
    }

    fn new_guest_link(&self, key: &Secret, until: OffsetDateTime) -> Result<(Secret, GuestLink), StoreError> {
        let token = new_guest_token();
        let sealed = self.keychain.seal_under(&token, key)?;
        let digest = self.keychain.digest(token.reveal());
        Ok((token, GuestLink { digest, sealed, until }))
    }
}

fn not_found(id: u64) -> StoreError {
    StoreError::NotFound { kind: "stream key", name: id.to_string() }
}

/// Rules as columns have them: lists as texts, none where there is nothing.
struct RuleColumns {
    hours: Option<String>,
    hours_zone: Option<String>,
    allowed_from: Option<String>,
    protocols: Option<String>,
}

impl RuleColumns {
    fn of(terms: &KeyTerms) -> Self {
        let rules = &terms.rules;
        let joined = |texts: Vec<String>, between| (!texts.is_empty()).then(|| texts.join(between));
        Self {
            hours: rules.hours.as_ref().map(|hours| hours.windows().collect::<Vec<_>>().join(";")),
            hours_zone: rules.hours.as_ref().map(|hours| hours.zone().to_owned()),
            allowed_from: joined(rules.allowed_from.iter().map(ToString::to_string).collect(), ","),
            protocols: joined(rules.protocols.iter().map(|protocol| protocol.name().to_owned()).collect(), ","),
        }
    }
}
