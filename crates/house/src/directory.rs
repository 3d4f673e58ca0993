use std::collections::{BTreeMap, HashMap};
use std::time::Duration;

use time::OffsetDateTime;
use waverant_relay::{
    ChannelEntry, ChannelName, Gate, Keeping, KeyEntry, KeyRight, NameTemplate, RecordingMode, RecordingRules,
    SplitRules, Takeover,
};
use waverant_srt::Passphrase;
use waverant_store::{
    ChannelDestination, KeyRight as StoredRight, RecordingChoice, RecordingSettings, SlateChoice, Store, StoreError,
};

use super::orders::LegOrder;
use super::passwords::Passwords;

/// A channel as sessions need it.
#[derive(Clone, Debug)]
pub(crate) struct ChannelRules {
    pub(crate) id: u64,
    pub(crate) name: ChannelName,
    pub(crate) title: String,
    pub(crate) hold: Duration,
    pub(crate) recording: RecordingRules,
    pub(crate) keeping: Keeping,
    /// Where finished takes are copied to, and whether they leave the disk then.
    pub(crate) depot: Option<String>,
    pub(crate) removes_copied: bool,
    pub(crate) takeover: Takeover,
    pub(crate) slate: SlateChoice,
    /// How long what is lost over SRT is waited for.
    pub(crate) srt_latency: Duration,
    /// What both ends must know over SRT.
    pub(crate) passphrase: Option<Passphrase>,
}

impl ChannelRules {
    fn new(channel: waverant_store::Channel, name: ChannelName) -> Self {
        let settings = channel.settings;
        Self {
            id: channel.id,
            name,
            title: settings.title,
            hold: Duration::from_millis(settings.hold_ms.into()),
            keeping: keeping(&settings.recording),
            depot: settings.recording.depot.clone(),
            removes_copied: settings.recording.removes_copied,
            recording: recording_rules(settings.recording),
            takeover: if settings.replaces { Takeover::Replace } else { Takeover::Refuse },
            slate: settings.slate,
            srt_latency: Duration::from_millis(settings.srt.latency_ms.into()),
            // It was looked at when it was set.
            passphrase: settings.srt.passphrase.and_then(|secret| Passphrase::new(secret.reveal()).ok()),
        }
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
        mode: match settings.choice {
            RecordingChoice::Always => RecordingMode::Always,
            RecordingChoice::ByHand => RecordingMode::ByHand,
            RecordingChoice::Off => RecordingMode::Off,
        },
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

/// Why a key does not open any more.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum KeyFault {
    Withdrawn,
    Expired,
}

impl KeyFault {
    /// As the end of a session and its publisher are told.
    pub(crate) const fn for_publisher(self) -> &'static str {
        match self {
            Self::Withdrawn => "the stream key was withdrawn",
            Self::Expired => "the stream key has expired",
        }
    }

    /// As a player is told.
    pub(crate) const fn for_player(self) -> &'static str {
        match self {
            Self::Withdrawn => "The viewing key was withdrawn.",
            Self::Expired => "The viewing key has expired.",
        }
    }
}

/// Channels, keys and destinations at one moment, so that no show waits for the database.
#[derive(Debug)]
pub(crate) struct Directory {
    pub(crate) gate: Gate,
    pub(crate) passwords: Passwords,
    channels: BTreeMap<u64, ChannelRules>,
    /// Until when each key opens.
    key_ends: HashMap<u64, Option<OffsetDateTime>>,
    orders: HashMap<u64, Vec<LegOrder>>,
}

impl Directory {
    pub(crate) async fn load(store: &Store) -> Result<Self, StoreError> {
        let mut channels = BTreeMap::new();
        for channel in store.channels().await? {
            match channel.name.parse() {
                Ok(name) => {
                    channels.insert(channel.id, ChannelRules::new(channel, name));
                }
                Err(error) => tracing::error!(channel = channel.name, %error, "this channel cannot be used"),
            }
        }
        let keys = store.all_keys().await?;
        let passwords = Passwords::new(keys.iter());
        let key_ends = keys.iter().map(|key| (key.id, key.expires_at)).collect();
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
                rank: key.rank,
                label: key.label,
                prefix: key.prefix,
                digest: key.digest,
                expires_at: key.expires_at,
                // They were looked at when they were set.
                allowed_from: key.allowed_from.iter().filter_map(|range| range.parse().ok()).collect(),
            }),
        );
        let mut orders: HashMap<u64, Vec<LegOrder>> = HashMap::new();
        for ChannelDestination { channel_id, destination, sending } in store.channel_destinations().await? {
            orders.entry(channel_id).or_default().push(LegOrder::new(destination, sending));
        }
        Ok(Self { gate, passwords, channels, key_ends, orders })
    }

    pub(crate) fn channels(&self) -> impl Iterator<Item = &ChannelRules> {
        self.channels.values()
    }

    pub(crate) fn channel(&self, id: u64) -> Option<&ChannelRules> {
        self.channels.get(&id)
    }

    /// Why a key does not open any more; none if it does.
    pub(crate) fn key_fault(&self, id: u64, now: OffsetDateTime) -> Option<KeyFault> {
        match self.key_ends.get(&id) {
            None => Some(KeyFault::Withdrawn),
            Some(Some(end)) if *end <= now => Some(KeyFault::Expired),
            Some(_) => None,
        }
    }

    /// The channel of this name.
    pub(crate) fn channel_named(&self, name: &str) -> Option<&ChannelRules> {
        self.channels.values().find(|rules| rules.name.as_str() == name)
    }

    pub(crate) fn orders(&self, channel_id: u64) -> &[LegOrder] {
        self.orders.get(&channel_id).map(Vec::as_slice).unwrap_or_default()
    }
}
