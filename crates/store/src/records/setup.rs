//! A set-up is written in one transaction: all of it holds, or nothing.

use std::collections::BTreeSet;

use sqlx::{MySql, Transaction};
use time::OffsetDateTime;
use waverant_relay::{AddressRule, CallTarget, Grants, HouseSystem, Secret, WhenOver};

use super::channels::ChannelSettings;
use super::depots::Depot;
use super::destinations::{DestinationSettings, Sending};
use super::keys::{KeyPassword, KeyTerms, MadeStreamKey, NewStreamKey};
use super::viewing_links::NewViewingLink;
use crate::{Store, StoreError};

/// Writes a set-up; nothing holds before [`commit`](Self::commit), and what is dropped never was.
///
/// # Errors
/// Each call: [`StoreError::NotFound`] if what it changes is gone meanwhile, [`StoreError::NameTaken`] if what it adds is
/// there, or if the database does not answer.
#[derive(Debug)]
pub struct SetupWriter<'s> {
    store: &'s Store,
    transaction: Transaction<'static, MySql>,
    channels: BTreeSet<u64>,
    now: OffsetDateTime,
}

impl Store {
    /// Begins to write a set-up.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn begin_setup(&self, now: OffsetDateTime) -> Result<SetupWriter<'_>, StoreError> {
        let transaction = self.pool.begin().await?;
        Ok(SetupWriter { store: self, transaction, channels: BTreeSet::new(), now })
    }
}

#[expect(clippy::missing_errors_doc, reason = "they are told of the type, as they are those of all")]
impl SetupWriter<'_> {
    /// Makes it hold. Returns the channels that are other than before.
    pub async fn commit(self) -> Result<BTreeSet<u64>, StoreError> {
        self.transaction.commit().await?;
        Ok(self.channels)
    }

    /// Adds a depot.
    pub async fn add_depot(&mut self, depot: &Depot) -> Result<(), StoreError> {
        self.store.insert_depot(&mut self.transaction, depot).await
    }

    /// Changes who signs requests to a depot, and where viewers reach it.
    pub async fn change_depot(&mut self, depot: &Depot) -> Result<(), StoreError> {
        let publishing = self.store.update_depot(&mut self.transaction, depot).await?;
        self.channels.extend(publishing);
        Ok(())
    }

    /// Removes a depot.
    pub async fn remove_depot(&mut self, name: &str) -> Result<(), StoreError> {
        self.channels.extend(Store::delete_depot(&mut self.transaction, name).await?);
        Ok(())
    }

    /// Adds a destination. Returns its number.
    pub async fn add_destination(
        &mut self,
        name: &str,
        settings: &DestinationSettings,
        key: &Secret,
    ) -> Result<u64, StoreError> {
        self.store.insert_destination(&mut self.transaction, name, (settings, key), self.now).await
    }

    /// Changes a destination.
    pub async fn change_destination(
        &mut self,
        id: u64,
        settings: &DestinationSettings,
        key: &Secret,
    ) -> Result<(), StoreError> {
        let sending = self.store.update_destination(&mut self.transaction, id, (settings, Some(key))).await?;
        self.channels.extend(sending);
        Ok(())
    }

    /// Removes a destination, from all channels too.
    pub async fn remove_destination(&mut self, id: u64, name: &str) -> Result<(), StoreError> {
        self.channels.extend(Store::delete_destination(&mut self.transaction, id, name).await?);
        Ok(())
    }

    /// Adds a channel. Returns its number.
    pub async fn add_channel(&mut self, name: &str, settings: &ChannelSettings) -> Result<u64, StoreError> {
        let id = self.store.insert_channel(&mut self.transaction, name, settings, self.now).await?;
        self.channels.insert(id);
        Ok(id)
    }

    /// Changes a channel.
    pub async fn change_channel(&mut self, id: u64, settings: &ChannelSettings) -> Result<(), StoreError> {
        self.channels.insert(id);
        self.store.update_channel(&mut self.transaction, id, settings).await
    }

    /// Removes a channel with its keys.
    pub async fn remove_channel(&mut self, id: u64, name: &str) -> Result<(), StoreError> {
        self.channels.insert(id);
        Store::delete_channel(&mut self.transaction, id, name).await
    }

    /// Gives a channel a destination, or changes how it sends there.
    pub async fn set_sending(&mut self, channel: u64, destination: u64, sending: Sending) -> Result<(), StoreError> {
        self.channels.insert(channel);
        Store::replace_sending(&mut self.transaction, (channel, destination), sending).await
    }

    /// Takes a destination from a channel.
    pub async fn remove_sending(&mut self, channel: u64, destination: u64) -> Result<(), StoreError> {
        self.channels.insert(channel);
        Store::delete_sending(&mut self.transaction, (channel, destination)).await
    }

    /// Makes keys of a channel.
    pub async fn add_keys(
        &mut self,
        channel: u64,
        new: &[NewStreamKey],
        password: &(dyn Fn(&str, &Secret) -> KeyPassword + Sync),
    ) -> Result<Vec<MadeStreamKey>, StoreError> {
        let mut made = Vec::with_capacity(new.len());
        for new in new {
            let key = self.store.insert_key(&mut self.transaction, (channel, None), new, self.now, password);
            made.push(key.await?);
        }
        Store::check_key_count(&mut self.transaction, channel).await?;
        Store::count_change(&mut self.transaction, channel).await?;
        self.channels.insert(channel);
        Ok(made)
    }

    /// Changes what is said of a key.
    pub async fn change_key(&mut self, channel: u64, id: u64, terms: &KeyTerms) -> Result<(), StoreError> {
        self.store.update_terms(&mut self.transaction, id, terms).await?;
        Store::count_change(&mut self.transaction, channel).await?;
        self.channels.insert(channel);
        Ok(())
    }

    /// Retires a key; a show that it opened goes on.
    pub async fn retire_key(&mut self, channel: u64, id: u64) -> Result<(), StoreError> {
        self.channels.insert(channel);
        self.store.write_retired(&mut self.transaction, (channel, id), WhenOver::ShowGoesOn, self.now).await
    }

    /// Makes a link.
    pub async fn add_link(&mut self, channel: u64, link: &NewViewingLink) -> Result<(), StoreError> {
        self.channels.insert(channel);
        Store::insert_link(&mut self.transaction, channel, link, self.now).await.map(drop)
    }

    /// Changes a link; its address stays.
    pub async fn change_link(&mut self, channel: u64, id: u64, link: &NewViewingLink) -> Result<(), StoreError> {
        self.channels.insert(channel);
        Store::update_link(&mut self.transaction, (channel, id), link).await
    }

    /// Revokes a link.
    pub async fn remove_link(&mut self, channel: u64, id: u64) -> Result<(), StoreError> {
        self.channels.insert(channel);
        Store::delete_link(&mut self.transaction, (channel, id)).await
    }

    /// Has a system asked, in the place of the one that was.
    pub async fn set_house_system(&mut self, system: &HouseSystem) -> Result<(), StoreError> {
        self.channels.insert(system.id);
        self.store.replace_house_system(&mut self.transaction, system).await
    }

    /// Has a system asked no more.
    pub async fn remove_house_system(&mut self, id: u64) -> Result<(), StoreError> {
        self.channels.insert(id);
        Store::delete_house_system(&mut self.transaction, id).await
    }

    /// Adds a target, if there are fewer than `most`. Returns its number.
    pub async fn add_call_target(&mut self, target: &CallTarget, most: u32) -> Result<u64, StoreError> {
        self.store.insert_call_target(&mut self.transaction, target, most).await
    }

    /// Changes a target.
    pub async fn change_call_target(&mut self, target: &CallTarget) -> Result<(), StoreError> {
        self.store.update_call_target(&mut self.transaction, target).await
    }

    /// Forgets a target.
    pub async fn remove_call_target(&mut self, id: u64, name: &str) -> Result<(), StoreError> {
        Store::delete_call_target(&mut self.transaction, id, name).await
    }

    /// Lets somebody in, and makes a code by which they choose a password until `ends`.
    pub async fn add_person(
        &mut self,
        name: &str,
        grants: &Grants,
        ends: OffsetDateTime,
    ) -> Result<Secret, StoreError> {
        Store::insert_person(&mut self.transaction, name, grants, self.now).await?;
        self.store.write_invitation(&mut self.transaction, name, ends, false).await
    }

    /// Gives somebody other roles; [`StoreError::LastAdministrator`] if nobody would be left who may let people in.
    pub async fn change_person(&mut self, name: &str, grants: &Grants) -> Result<(), StoreError> {
        Store::write_grants(&mut self.transaction, name, grants).await.map(drop)
    }

    /// Removes somebody; [`StoreError::LastAdministrator`] if nobody would be left who may let people in.
    pub async fn remove_person(&mut self, name: &str) -> Result<(), StoreError> {
        Store::delete_person(&mut self.transaction, name).await.map(drop)
    }

    /// Makes a rule for addresses, in the place of another for the same ones, if there are fewer than `most`. Returns
    /// its number.
    pub async fn set_address_rule(&mut self, rule: &AddressRule, most: u32) -> Result<u64, StoreError> {
        Store::replace_address_rule(&mut self.transaction, rule, most).await
    }

    /// Forgets a rule for addresses.
    pub async fn remove_address_rule(&mut self, id: u64) -> Result<(), StoreError> {
        Store::delete_address_rule(&mut self.transaction, id).await
    }
}
