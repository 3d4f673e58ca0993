use std::collections::{BTreeMap, HashMap, HashSet};
use std::time::Duration;

use super::passwords::Passwords;
use waverant_relay::{ChannelEntry, ChannelName, Gate, KeyEntry, KeyRight};
use waverant_store::{ChannelDestination, Destination, KeyRight as StoredRight, Store, StoreError};

/// A channel as sessions need it.
#[derive(Clone, Debug)]
pub(crate) struct ChannelRules {
    pub(crate) id: u64,
    pub(crate) name: ChannelName,
    pub(crate) title: String,
    pub(crate) hold: Duration,
    pub(crate) records: bool,
}

/// What a leg is to do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct LegOrder {
    pub(crate) destination: Destination,
    pub(crate) switched_on: bool,
}

/// Channels, keys and destinations at one moment, so that no show waits for the database.
#[derive(Debug)]
pub(crate) struct Directory {
    pub(crate) gate: Gate,
    pub(crate) passwords: Passwords,
    channels: BTreeMap<u64, ChannelRules>,
    key_ids: HashSet<u64>,
    orders: HashMap<u64, Vec<LegOrder>>,
}

impl Directory {
    pub(crate) async fn load(store: &Store) -> Result<Self, StoreError> {
        let mut channels = BTreeMap::new();
        for channel in store.channels().await? {
            match channel.name.parse() {
                Ok(name) => {
                    let hold = Duration::from_millis(channel.settings.hold_ms.into());
                    let (title, records) = (channel.settings.title, channel.settings.records);
                    channels.insert(channel.id, ChannelRules { id: channel.id, name, title, hold, records });
                }
                Err(error) => tracing::error!(channel = channel.name, %error, "this channel cannot be used"),
            }
        }
        let keys = store.all_keys().await?;
        let passwords = Passwords::new(keys.iter());
        let key_ids = keys.iter().map(|key| key.id).collect();
        let entries = channels.values().map(|rules| ChannelEntry { id: rules.id, name: rules.name.to_string() });
        let gate = Gate::new(
            entries,
            keys.into_iter().map(|key| KeyEntry {
                id: key.id,
                channel_id: key.channel_id,
                right: match key.right {
                    StoredRight::Publish => KeyRight::Publish,
                    StoredRight::View => KeyRight::View,
                },
                label: key.label,
                prefix: key.prefix,
                digest: key.digest,
                expires_at: key.expires_at,
            }),
        );
        let mut orders: HashMap<u64, Vec<LegOrder>> = HashMap::new();
        for ChannelDestination { channel_id, destination, switched_on } in store.channel_destinations().await? {
            orders.entry(channel_id).or_default().push(LegOrder { destination, switched_on });
        }
        Ok(Self { gate, passwords, channels, key_ids, orders })
    }

    pub(crate) fn channels(&self) -> impl Iterator<Item = &ChannelRules> {
        self.channels.values()
    }

    pub(crate) fn channel(&self, id: u64) -> Option<&ChannelRules> {
        self.channels.get(&id)
    }

    pub(crate) fn has_key(&self, id: u64) -> bool {
        self.key_ids.contains(&id)
    }

    pub(crate) fn orders(&self, channel_id: u64) -> &[LegOrder] {
        self.orders.get(&channel_id).map(Vec::as_slice).unwrap_or_default()
    }
}
