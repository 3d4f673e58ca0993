use waverant_relay::{AddressRule, AskingRules, CallTarget, Role, Secret};
use waverant_store::{ChannelSettings, Depot, DestinationSettings, KeyTerms, NewStreamKey, NewViewingLink, Sending};

/// One thing that is written. Channels and destinations are told by name: of new ones no number is known yet.
#[derive(Debug)]
pub(in crate::setup) enum Step {
    AddDepot(Depot),
    ChangeDepot(Depot),
    RemoveDepot(String),
    AddDestination {
        name: String,
        settings: DestinationSettings,
        key: Secret,
    },
    ChangeDestination {
        id: u64,
        settings: DestinationSettings,
        key: Secret,
    },
    RemoveDestination {
        id: u64,
        name: String,
    },
    AddChannel {
        name: String,
        settings: Box<ChannelSettings>,
    },
    ChangeChannel {
        id: u64,
        settings: Box<ChannelSettings>,
    },
    RemoveChannel {
        id: u64,
        name: String,
    },
    SetSending {
        channel: String,
        destination: String,
        sending: Sending,
    },
    RemoveSending {
        channel: String,
        destination: String,
    },
    AddKeys {
        channel: String,
        keys: Vec<(NewStreamKey, Option<String>)>,
    },
    ChangeKey {
        channel: String,
        id: u64,
        terms: Box<KeyTerms>,
    },
    RetireKey {
        channel: String,
        id: u64,
    },
    AddLink {
        channel: String,
        link: NewViewingLink,
    },
    ChangeLink {
        channel: String,
        id: u64,
        link: NewViewingLink,
    },
    RemoveLink {
        channel: String,
        id: u64,
    },
    /// Of a channel, or of the house.
    SetSystem {
        channel: Option<String>,
        rules: AskingRules,
        secret: Secret,
        is_made: bool,
    },
    RemoveSystem {
        channel: Option<String>,
    },
    /// 0 is the number of a new one.
    SetTarget {
        target: Box<CallTarget>,
        channel: Option<String>,
        is_made: bool,
    },
    RemoveTarget {
        id: u64,
        name: String,
    },
    SetPerson {
        name: String,
        is_new: bool,
        role: Option<Role>,
        channels: Vec<(String, Role)>,
    },
    RemovePerson(String),
    SetAddress(AddressRule),
    RemoveAddress(u64),
}
