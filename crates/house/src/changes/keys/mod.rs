//! Stream keys: made, changed, renewed, retired.

mod own;
pub(crate) mod terms;

use std::sync::Arc;

use time::{Duration, OffsetDateTime};
use waverant_model::{AddKey, ChangeKey, RenewKey, RetireKey};
use waverant_relay::{Actor, Secret};
use waverant_rtmp::password_digest;
use waverant_store::{Channel, KeyPassword, KeyRenewal, MadeStreamKey, NewStreamKey, StreamKey, new_salt};

use crate::words::when_over_of;
use crate::{House, HouseError};

/// Keys that are made at once, at most.
const MOST_AT_ONCE: usize = 500;

/// How long two keys may open for the same, and a guest's link may last.
const LONGEST: Duration = Duration::days(90);

/// A key that was made; the only place where it is known.
#[derive(Debug)]
pub struct MadeKey {
    /// Its channel.
    pub channel: Channel,
    /// Its record.
    pub key: StreamKey,
    /// The key itself.
    pub secret: Secret,
    /// What stands in the guest's link, if one was wanted.
    pub guest_token: Option<Secret>,
    /// What is to be known of a key that somebody chose.
    pub warning: Option<String>,
}

impl House {
    /// Makes a stream key.
    ///
    /// # Errors
    /// [`HouseError`] if a field is not as expected, there is no such channel, or the database is away.
    pub async fn add_key(self: &Arc<Self>, channel: &str, form: AddKey, by: &Actor) -> Result<MadeKey, HouseError> {
        let now = OffsetDateTime::now_utc();
        let (new, warning) = self.checked_key(form, now).await?;
        let mut made = self.insert_keys(channel, vec![(new, warning)], now, by).await?;
        made.pop().ok_or(HouseError::Fault)
    }

    /// Makes stream keys, all or none.
    ///
    /// # Errors
    /// [`HouseError`] with the place of the first that is not as expected; as for [`add_key`](Self::add_key) else.
    pub async fn add_keys(
        self: &Arc<Self>,
        channel: &str,
        forms: Vec<AddKey>,
        by: &Actor,
    ) -> Result<Vec<MadeKey>, HouseError> {
        if forms.is_empty() || forms.len() > MOST_AT_ONCE {
            let found = format!("{} keys were found; between 1 and {MOST_AT_ONCE} were expected", forms.len());
            return Err(HouseError::invalid("keys", found));
        }
        let now = OffsetDateTime::now_utc();
        let mut new = Vec::with_capacity(forms.len());
        for (place, form) in (1..).zip(forms) {
            let checked = self.checked_key(form, now).await;
            new.push(checked.map_err(|error| HouseError::invalid("keys", format!("key {place}: {error}")))?);
        }
        self.insert_keys(channel, new, now, by).await
    }

    async fn insert_keys(
        &self,
        channel: &str,
        new: Vec<(NewStreamKey, Option<String>)>,
        now: OffsetDateTime,
        by: &Actor,
    ) -> Result<Vec<MadeKey>, HouseError> {
        let _changing = self.changing.of(channel).await;
        let channel = self.store.channel(channel).await?;
        let (new, warnings): (Vec<NewStreamKey>, Vec<Option<String>>) = new.into_iter().unzip();
        let made = self.store.add_keys(channel.id, &new, now, &password_of).await.map_err(own::taken)?;
        self.follow([channel.id]).await?;
        let made: Vec<MadeKey> =
            made.into_iter().zip(warnings).map(|(made, warning)| told(&channel, made, warning)).collect();
        for made in &made {
            tracing::info!(channel = channel.name, key = made.key.terms.label, %by, "a key is made");
        }
        Ok(made)
    }

    async fn checked_key(
        self: &Arc<Self>,
        form: AddKey,
        now: OffsetDateTime,
    ) -> Result<(NewStreamKey, Option<String>), HouseError> {
        let guest_until = checked_moment("guest_link_until", form.guest_link_until, now)?;
        let own = form.key.as_ref().map(|key| Secret::new(key.reveal()));
        let warning = match &own {
            Some(own) => self.checked_own_key(own, &form.label).await?,
            None => None,
        };
        let right = crate::words::right_of(form.right);
        let terms = terms::made(form, right, now)?;
        Ok((NewStreamKey { right, terms, own, guest_until }, warning))
    }

    /// Changes a key; what the form leaves out stays. Returns it before and after.
    ///
    /// # Errors
    /// [`HouseError`] if a field is not as expected, there is no such key or it is retired, or the database is away.
    pub async fn change_key(
        &self,
        channel: &str,
        key: u64,
        form: ChangeKey,
        by: &Actor,
    ) -> Result<(StreamKey, StreamKey), HouseError> {
        let _changing = self.changing.of(channel).await;
        let channel = self.store.channel(channel).await?;
        let now = OffsetDateTime::now_utc();
        let changed = self.store.change_key(channel.id, key, |present| {
            if present.retired.is_some() {
                return Err(retired());
            }
            terms::changed(form, present, now)
        });
        let changed = changed.await?;
        self.follow([channel.id]).await?;
        tracing::info!(channel = channel.name, key = changed.1.terms.label, %by, "a key is changed");
        Ok(changed)
    }

    /// Makes a key that takes the place of another; for a while both open.
    ///
    /// # Errors
    /// [`HouseError`] as for [`change_key`](Self::change_key).
    pub async fn renew_key(&self, channel: &str, key: u64, form: RenewKey, by: &Actor) -> Result<MadeKey, HouseError> {
        let now = OffsetDateTime::now_utc();
        let both_until = checked_moment("both_until", Some(form.both_until), now)?.unwrap_or(now);
        let guest_until = checked_moment("guest_link_until", form.guest_link_until, now)?;
        let _changing = self.changing.of(channel).await;
        let channel = self.store.channel(channel).await?;
        let renewal = KeyRenewal { both_until, guest_until, now };
        let check = |present: &StreamKey| {
            // The new one would be as over as the old one.
            let is_over = present.terms.rules.expires_at.is_some_and(|end| end <= now);
            match (present.retired, is_over) {
                (Some(_), _) => Err(retired()),
                (None, true) => {
                    Err(HouseError::Conflict("the key's time is over; give it another end first".to_owned()))
                }
                (None, false) => Ok(()),
            }
        };
        let made = self.store.renew_key((channel.id, key), renewal, &password_of, check).await?;
        self.follow([channel.id]).await?;
        tracing::info!(channel = channel.name, key = made.key.terms.label, %by, "a key is renewed");
        Ok(told(&channel, made, None))
    }

    /// Retires a key: it opens nothing any more, and its show ends or goes on.
    ///
    /// # Errors
    /// [`HouseError`] if there is no such key, or the database is away.
    pub async fn retire_key(&self, channel: &str, key: u64, form: RetireKey, by: &Actor) -> Result<(), HouseError> {
        let _changing = self.changing.of(channel).await;
        let channel = self.store.channel(channel).await?;
        let show = when_over_of(form.show);
        self.store.retire_key(channel.id, key, show, OffsetDateTime::now_utc()).await?;
        self.follow([channel.id]).await?;
        tracing::info!(channel = channel.name, key, ?show, %by, "a key is retired");
        Ok(())
    }

    /// Ends a key's guest's link; the key goes on.
    ///
    /// # Errors
    /// [`HouseError`] if there is no such link, or the database is away.
    pub async fn end_guest_link(&self, channel: &str, key: u64, by: &Actor) -> Result<(), HouseError> {
        let _changing = self.changing.of(channel).await;
        let channel = self.store.channel(channel).await?;
        self.store.end_guest_link(channel.id, key).await?;
        self.follow([channel.id]).await?;
        tracing::info!(channel = channel.name, key, %by, "a guest's link is ended");
        Ok(())
    }

    /// Removes a stream key; a publisher who uses it is ended.
    ///
    /// # Errors
    /// [`HouseError`] if there is no such key, or the database is away.
    pub async fn remove_key(&self, channel: &str, key: u64, by: &Actor) -> Result<(), HouseError> {
        let _changing = self.changing.of(channel).await;
        let channel = self.store.channel(channel).await?;
        self.store.remove_key(channel.id, key).await?;
        self.follow([channel.id]).await?;
        tracing::info!(channel = channel.name, key, %by, "a key is removed");
        Ok(())
    }

    /// Hands to the records which keys were used, and wipes what guests' links held that are over.
    pub(crate) fn look_after_keys(self: &Arc<Self>, now: OffsetDateTime) {
        self.write_key_uses(now);
        if !self.key_watch.begin_tidying(now, self.directory().has_ended_guests(now)) {
            return;
        }
        let house = self.clone();
        // Nobody waits for the database.
        self.tasks().spawn(async move {
            match house.store.forget_old_keys(now).await {
                Ok(channels) if channels.is_empty() => {}
                Ok(channels) => drop(house.follow(channels).await),
                Err(error) => tracing::debug!(%error, "guests' links that are over are wiped later"),
            }
            house.key_watch.tidied(now);
        });
    }

    pub(crate) fn write_key_uses(&self, now: OffsetDateTime) {
        self.key_watch.take_uses(now).into_iter().for_each(|used| self.ledger.write_key_use(used));
    }
}

fn retired() -> HouseError {
    HouseError::Conflict("the key is retired; make another one".to_owned())
}

pub(crate) fn told(channel: &Channel, made: MadeStreamKey, warning: Option<String>) -> MadeKey {
    let MadeStreamKey { key, secret, guest_token } = made;
    MadeKey { channel: channel.clone(), key, secret, guest_token, warning }
}

/// Encoders that have fields for user name and password use the key's name and the whole key.
pub(crate) fn password_of(name: &str, secret: &Secret) -> KeyPassword {
    let salt = new_salt();
    let digest = Secret::new(password_digest(name, &salt, secret.reveal()));
    KeyPassword { salt, digest }
}

/// A moment that is to come, and not too far.
fn checked_moment(
    field: &'static str,
    at: Option<OffsetDateTime>,
    now: OffsetDateTime,
) -> Result<Option<OffsetDateTime>, HouseError> {
    match at {
        Some(at) if at <= now => Err(HouseError::invalid(field, "it is in the past")),
        Some(at) if at > now + LONGEST => {
            Err(HouseError::invalid(field, format!("it is more than {} days from now", LONGEST.whole_days())))
        }
        at => Ok(at),
    }
}
