//! The packagings that run: one for each channel that somebody watches by segments.

use std::collections::HashMap;
use std::sync::{Arc, Weak};
use std::time::Duration;

use parking_lot::Mutex;
use tokio::time::{MissedTickBehavior, interval};
use waverant_house::House;
use waverant_relay::{Audience, ChannelRules};
use waverant_show::{Packaging, Show};

use crate::access::Access;
use crate::{Fault, ViewingState};

/// How often it is looked which channels are to be packaged while nobody watches.
const READY_INTERVAL: Duration = Duration::from_secs(1);

/// Packagings by channel; each lives as long as it runs.
#[derive(Debug, Default)]
pub(crate) struct Screens(Mutex<HashMap<u64, Screen>>);

#[derive(Debug)]
struct Screen {
    session: u64,
    is_rehearsal: bool,
    packaging: Weak<Packaging>,
}

impl Screens {
    /// The packaging of a channel's show, begun if nobody watched it yet; of one that is over, for as long as
    /// viewers may still fetch its end.
    pub(crate) fn of(&self, house: &House, access: &Access) -> Result<Arc<Packaging>, Fault> {
        if access.take().is_some() {
            return Err(Fault::OffAir);
        }
        self.showing(house, access.rules.id, access.show_on_air(house), access.sees_rehearsals())
    }

    /// The packaging of a show, for the house itself.
    pub(crate) fn for_house(&self, house: &House, rules: &ChannelRules, show: &Arc<Show>) -> Option<Arc<Packaging>> {
        self.showing(house, rules.id, Some(show.clone()), false).ok()
    }

    fn showing(
        &self,
        house: &House,
        channel: u64,
        show: Option<Arc<Show>>,
        sees_rehearsals: bool,
    ) -> Result<Arc<Packaging>, Fault> {
        let mut screens = self.0.lock();
        let running = screens.get(&channel).filter(|screen| sees_rehearsals || !screen.is_rehearsal);
        let running = running.and_then(|screen| Some((screen.session, screen.packaging.upgrade()?)));
        let running = running.filter(|(_, packaging)| !packaging.is_stopped());
        match (show, running) {
            (Some(show), Some((session, packaging))) if session == show.id() => Ok(packaging),
            (Some(show), _) => {
                let viewing = show.rules().viewing.clone();
                let (rules, always) = (viewing.packaging(), viewing.is_packaged_always());
                let packaging = Packaging::start(show.context(), rules, always, house.segments());
                screens.retain(|_, screen| screen.packaging.strong_count() > 0);
                let (session, is_rehearsal) = (show.id(), show.is_rehearsal());
                let screen = Screen { session, is_rehearsal, packaging: Arc::downgrade(&packaging) };
                screens.insert(channel, screen);
                Ok(packaging)
            }
            (None, Some((_, packaging))) => Ok(packaging),
            (None, None) => Err(Fault::OffAir),
        }
    }
}

/// Packages the shows of channels that are to be ready before somebody watches, and lets go of recordings that nobody
/// watches any more, until the service stops.
pub async fn keep_ready(state: ViewingState) {
    let mut ticks = interval(READY_INTERVAL);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            _ = ticks.tick() => {}
            () = state.house.stopping().cancelled() => return,
        }
        state.recordings.forget_old();
        let directory = state.house.directory();
        let is_wanted = |rules: &&Arc<ChannelRules>| {
            rules.viewing.is_packaged_always() && rules.viewing.audience != Audience::Nobody
        };
        for rules in directory.channels().filter(is_wanted) {
            // Who is not on air has nothing to be ready.
            let show = state.house.show(rules.id).filter(|show| !show.live().has_ended() && !show.is_rehearsal());
            let _ = show.map(|show| state.screens.for_house(&state.house, rules, &show));
        }
    }
}
