use std::collections::BTreeMap;
use std::sync::Arc;

use parking_lot::Mutex;
use waverant_relay::{ChannelRules, LegOrder, RecordingMode};

/// What is told of a destination that is not sent to.
const SET_ASIDE: &str = "not sent in this session, as the house's system wants; switch it off and on to send";

/// What another system of the house wants of one session, beside the rules of its channel.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Steering {
    /// Destinations that are sent to, or not.
    pub destinations: BTreeMap<String, bool>,
    /// What is recorded.
    pub recording: Option<RecordingMode>,
}

/// The steering of a session as it is now: what people say later counts more.
#[derive(Debug)]
pub(super) struct Helm {
    destinations: Mutex<BTreeMap<String, bool>>,
    recording: Option<RecordingMode>,
}

impl Helm {
    pub(super) fn new(steering: Steering) -> Self {
        Self { destinations: Mutex::new(steering.destinations), recording: steering.recording }
    }

    /// Leaves a destination to people. True if it was not left to them before.
    pub(super) fn release(&self, destination: &str) -> bool {
        self.destinations.lock().remove(destination).is_some()
    }

    /// Names of destinations that the channel has not.
    pub(super) fn unknown(&self, orders: &[LegOrder]) -> Vec<String> {
        let is_there = |name: &str| orders.iter().any(|order| order.destination.name == name);
        self.destinations.lock().keys().filter(|name| !is_there(name)).cloned().collect()
    }

    pub(super) fn orders(&self, orders: &[LegOrder]) -> Vec<LegOrder> {
        let steered = self.destinations.lock();
        let steer = |order: &LegOrder| match steered.get(&order.destination.name) {
            Some(true) => LegOrder { is_on: true, ..order.clone() },
            Some(false) => LegOrder { set_aside: Some(SET_ASIDE.to_owned()), ..order.clone() },
            None => order.clone(),
        };
        orders.iter().map(steer).collect()
    }

    pub(super) fn rules(&self, rules: &Arc<ChannelRules>) -> Arc<ChannelRules> {
        let Some(mode) = self.recording.filter(|mode| *mode != rules.recording.mode) else { return rules.clone() };
        let mut steered = ChannelRules::clone(rules);
        steered.recording.mode = mode;
        Arc::new(steered)
    }
}
