use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::time::Duration;

use time::OffsetDateTime;
use waverant_relay::{
    ChannelName, ChannelRules, Gate, GateChannel, GateKey, HouseSystem, Keeping, LegOrder, NameTemplate,
    RecordingRules, SplitRules, ViewingLink,
};
use waverant_srt::Passphrase;
use waverant_store::{Channel, ChannelDestination, GuestLink, RecordingSettings, Store, StoreError, StreamKey};

use crate::orders::leg_order;
use crate::passwords::Passwords;

/// Channels, keys and destinations at one moment, so that no show waits for the database. A copy is cheap: what is in
/// it is shared.
#[derive(Clone, Debug, Default)]
pub struct Directory {
    gate: Gate,
    passwords: Passwords,
    /// Passphrases of keys that have their own.
    passphrases: HashMap<u64, Passphrase>,
    guests: HashMap<[u8; 32], Arc<Guest>>,
    channels: BTreeMap<u64, Arc<ChannelRules>>,
    by_name: HashMap<ChannelName, u64>,
    orders: HashMap<u64, Arc<[LegOrder]>>,
    links: HashMap<u64, Arc<ViewingLink>>,
    /// Systems that are asked, by channel; 0 is the one of the house.
    systems: HashMap<u64, Arc<HouseSystem>>,
}

/// A guest's link.
#[derive(Debug)]
pub(crate) struct Guest {
    pub(crate) key_id: u64,
    pub(crate) link: GuestLink,
}

/// What is read of channels.
struct Read {
    channels: Vec<Channel>,
    keys: Vec<StreamKey>,
    destinations: Vec<ChannelDestination>,
    links: Vec<ViewingLink>,
    systems: Vec<HouseSystem>,
}

impl Directory {
    /// Reads all channels.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub(crate) async fn load(store: &Store) -> Result<Self, StoreError> {
        let channels = store.channels().await?;
        let ids = channels.iter().map(|channel| channel.id);
        let ids: Vec<u64> = ids.chain([HouseSystem::OF_HOUSE]).collect();
        let (keys, destinations) = (store.all_keys().await?, store.channel_destinations().await?);
        let (links, systems) = (store.all_viewing_links().await?, store.house_systems().await?);
        let mut directory = Self::default();
        directory.set_channels(&ids, Read { channels, keys, destinations, links, systems });
        Ok(directory)
    }

    /// The same with these channels as they are now.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub(crate) async fn reload(&self, store: &Store, ids: &[u64]) -> Result<Self, StoreError> {
        let channels = store.channels_by_id(ids).await?;
        let (keys, destinations) = (store.keys_of(ids).await?, store.destinations_of(ids).await?);
        let (links, systems) = (store.viewing_links_of(ids).await?, store.house_systems_of(ids).await?);
        let mut directory = self.clone();
        directory.set_channels(ids, Read { channels, keys, destinations, links, systems });
        Ok(directory)
    }

    fn set_channels(&mut self, ids: &[u64], read: Read) {
        let Read { channels, keys, destinations, links, systems } = read;
        ids.iter().for_each(|id| self.remove_channel(*id));
        self.links.retain(|_, link| !ids.contains(&link.channel_id));
        self.systems.retain(|id, _| !ids.contains(id));
        self.systems.extend(systems.into_iter().map(|system| (system.id, Arc::new(system))));
        self.links.extend(links.into_iter().map(|link| (link.id, Arc::new(link))));
        for channel in channels {
            match channel.name.parse() {
                Ok(name) => self.add_channel(channel_rules(channel, name)),
                Err(error) => tracing::error!(channel = channel.name, %error, "this channel cannot be used"),
            }
        }
        for key in keys {
            self.add_key(key);
        }
        let mut orders: HashMap<u64, Vec<LegOrder>> = HashMap::new();
        for ChannelDestination { channel_id, destination, sending } in destinations {
            orders.entry(channel_id).or_default().push(leg_order(destination, sending));
        }
        self.orders.extend(orders.into_iter().map(|(id, orders)| (id, orders.into())));
    }

    fn add_channel(&mut self, rules: ChannelRules) {
        self.gate.set_channel(GateChannel { id: rules.id, name: rules.name.to_string() });
        self.by_name.insert(rules.name.clone(), rules.id);
        self.channels.insert(rules.id, Arc::new(rules));
    }

    fn add_key(&mut self, key: StreamKey) {
        self.passwords.add(&key);
        // It was looked at when it was set.
        let passphrase = key.terms.passphrase.as_ref().and_then(|secret| Passphrase::new(secret.reveal()).ok());
        self.passphrases.extend(passphrase.map(|passphrase| (key.id, passphrase)));
        if let Some(link) = key.guest.clone() {
            self.guests.insert(link.digest, Arc::new(Guest { key_id: key.id, link }));
        }
        self.gate.set_key(gate_key(key));
    }

    fn remove_channel(&mut self, id: u64) {
        let is_of = |key: u64| self.gate.key(key).is_some_and(|key| key.channel_id == id);
        self.passphrases.retain(|key, _| !is_of(*key));
        self.guests.retain(|_, guest| !is_of(guest.key_id));
        self.gate.remove_channel(id);
        self.passwords.remove_channel(id);
        self.orders.remove(&id);
        if let Some(rules) = self.channels.remove(&id) {
            self.by_name.remove(&rules.name);
        }
    }

    /// The keys that open channels.
    pub fn gate(&self) -> &Gate {
        &self.gate
    }

    /// What answers to challenges are checked by.
    pub(crate) fn passwords(&self) -> &Passwords {
        &self.passwords
    }

    /// The passphrase of a key that has its own.
    pub fn key_passphrase(&self, key_id: u64) -> Option<&Passphrase> {
        self.passphrases.get(&key_id)
    }

    /// The guest's link of this digest.
    pub(crate) fn guest(&self, digest: &[u8; 32]) -> Option<&Arc<Guest>> {
        self.guests.get(digest)
    }

    /// True if a guest's link has ended and what it held is still kept.
    pub(crate) fn has_ended_guests(&self, now: OffsetDateTime) -> bool {
        self.guests.values().any(|guest| guest.link.until <= now)
    }

    /// All channels by number.
    pub fn channels(&self) -> impl Iterator<Item = &Arc<ChannelRules>> {
        self.channels.values()
    }

    /// The channel with this number.
    pub fn channel(&self, id: u64) -> Option<&Arc<ChannelRules>> {
        self.channels.get(&id)
    }

    /// The channel of this name.
    pub fn channel_named(&self, name: &str) -> Option<&Arc<ChannelRules>> {
        let name: ChannelName = name.parse().ok()?;
        self.channels.get(self.by_name.get(&name)?)
    }

    /// The link in whose address `token` stands.
    pub fn link(&self, token: &str) -> Option<&Arc<ViewingLink>> {
        self.links.get(&ViewingLink::id_in(token)?).filter(|link| link.has_token(token))
    }

    /// The link of this number.
    pub fn link_numbered(&self, id: u64) -> Option<&Arc<ViewingLink>> {
        self.links.get(&id)
    }

    /// The system that is asked about a channel: its own, or else that of the house. 0 is the house itself.
    pub fn house_system(&self, channel_id: u64) -> Option<&Arc<HouseSystem>> {
        self.systems.get(&channel_id).or_else(|| self.systems.get(&HouseSystem::OF_HOUSE))
    }

    /// All systems that are asked.
    pub(crate) fn house_systems(&self) -> impl Iterator<Item = &Arc<HouseSystem>> {
        self.systems.values()
    }

    /// The system of this number.
    pub fn house_system_numbered(&self, id: u64) -> Option<&Arc<HouseSystem>> {
        self.systems.get(&id)
    }

    /// How a channel's sessions are sent to its destinations.
    pub fn orders(&self, channel_id: u64) -> &[LegOrder] {
        self.orders.get(&channel_id).map(AsRef::as_ref).unwrap_or_default()
    }
}

/// A key as the gate knows it.
pub fn gate_key(key: StreamKey) -> GateKey {
    GateKey {
        id: key.id,
        family: key.family,
        channel_id: key.channel_id,
        right: key.right,
        rank: key.terms.rank,
        label: key.terms.label,
        prefix: key.prefix,
        is_own: key.is_own,
        digest: key.digest,
        rules: key.terms.rules,
        retired: key.retired.map(|(_, show)| show),
    }
}

fn channel_rules(channel: Channel, name: ChannelName) -> ChannelRules {
    let settings = channel.settings;
    ChannelRules {
        id: channel.id,
        name,
        title: settings.title,
        hold: Duration::from_millis(settings.hold_ms.into()),
        keeping: keeping(&settings.recording),
        depot: settings.recording.depot.clone(),
        removes_copied: settings.recording.removes_copied,
        recording: recording_rules(settings.recording),
        takeover: settings.takeover,
        loudness: settings.loudness,
        slate: settings.slate,
        viewing: settings.viewing,
        srt_latency: Duration::from_millis(settings.srt.latency_ms.into()),
        // It was looked at when it was set.
        passphrase: settings.srt.passphrase.and_then(|secret| Passphrase::new(secret.reveal()).ok()),
    }
}

fn keeping(settings: &RecordingSettings) -> Keeping {
    Keeping {
        age: (settings.keep_s > 0).then(|| Duration::from_secs(settings.keep_s)),
        count: (settings.keep_count > 0).then_some(settings.keep_count),
        size_bytes: (settings.keep_bytes > 0).then_some(settings.keep_bytes),
    }
}

fn recording_rules(settings: RecordingSettings) -> RecordingRules {
    RecordingRules {
        mode: settings.mode,
        matroska: settings.matroska,
        split: SplitRules {
            length: (settings.split_ms > 0).then(|| Duration::from_millis(settings.split_ms.into())),
            size_bytes: (settings.split_bytes > 0).then_some(settings.split_bytes),
            at_return: settings.split_at_return,
        },
        names: settings.names.parse().unwrap_or_else(|error| {
            tracing::error!(names = settings.names, %error, "takes get their usual names");
            NameTemplate::default()
        }),
        pre_roll: Duration::from_millis(settings.pre_roll_ms.into()),
    }
}
