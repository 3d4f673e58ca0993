//! Shows of open channels told from object storage as well: for more viewers than the uplink carries.

mod outlet;

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use tokio::time::{MissedTickBehavior, interval};
use tokio_util::task::AbortOnDropHandle;
use waverant_house::House;
use waverant_relay::{Audience, ChannelRules, PublishedTo};

use crate::ViewingState;
use outlet::Outlet;

/// How often it is looked which shows are to be published.
const LOOK_INTERVAL: Duration = Duration::from_secs(1);

/// The session and depot that an outlet works for.
type Task = (u64, PublishedTo);

/// The depot that a channel's shows are to be published to now.
pub(crate) fn wanted_depot(rules: &ChannelRules) -> Option<&PublishedTo> {
    rules.viewing.published_to.as_ref().filter(|_| rules.viewing.audience == Audience::Everybody)
}

/// The depot of a channel as its rules are at this moment.
fn depot_now(house: &House, channel_id: u64) -> Option<PublishedTo> {
    house.directory().channel(channel_id).and_then(|rules| wanted_depot(rules)).cloned()
}

/// Publishes the shows of channels whose rules say so, until the service stops.
pub async fn publish(state: ViewingState) {
    let mut outlets: HashMap<u64, (Task, AbortOnDropHandle<()>)> = HashMap::new();
    let mut leaving: Vec<AbortOnDropHandle<()>> = Vec::new();
    let mut ticks = interval(LOOK_INTERVAL);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            _ = ticks.tick() => {}
            () = state.house.stopping().cancelled() => break,
        }
        leaving.retain(|outlet| !outlet.is_finished());
        let directory = state.house.directory();
        let wanted = directory.channels().filter_map(|rules| Some((rules, wanted_depot(rules)?)));
        for (rules, depot) in wanted {
            let show = state.house.show(rules.id).filter(|show| !show.live().has_ended() && !show.is_rehearsal());
            let Some(show) = show else { continue };
            let task = (show.id(), depot.clone());
            if outlets.get(&rules.id).is_some_and(|(running, outlet)| *running == task && !outlet.is_finished()) {
                continue;
            }
            let outlet = Outlet::new(state.clone(), Arc::clone(rules), show, depot.clone());
            let running = AbortOnDropHandle::new(tokio::spawn(outlet.run()));
            // One of a session before still cleans up behind itself.
            leaving.extend(outlets.insert(rules.id, (task, running)).map(|(_, outlet)| outlet));
        }
    }
    // What viewers have by then is told its end.
    let outlets = outlets.into_values().map(|(_, outlet)| outlet).chain(leaving);
    let _ = tokio::time::timeout(outlet::LAST_WORDS, futures_util::future::join_all(outlets)).await;
}
