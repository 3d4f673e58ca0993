//! What the supervisor of the machine is told, if one started us: that we are ready, that we live, and how it stands.
//!
//! Source: sd_notify(3), systemd.service(5): `Type=notify`, `WatchdogSec=`

use std::sync::Arc;
use std::time::Duration;

use sd_notify::NotifyState;
use tokio::time::{Instant, MissedTickBehavior, interval_at};
use waverant_house::House;
use waverant_relay::LegPhase;

/// How often the line is told anew, if it is another one.
const STATUS_EVERY: Duration = Duration::from_secs(10);

/// Says that doors are open, and from then on that we live. The line of health is told from the runtime that carries
/// shows: if that stands still, nothing is told, and the supervisor starts us again.
pub(crate) fn begin(house: &Arc<House>) {
    let watched = sd_notify::watchdog_enabled();
    let is_there = std::env::var_os("NOTIFY_SOCKET").is_some();
    if !is_there {
        return;
    }
    tell(&[NotifyState::Ready, NotifyState::Status("no show on air")]);
    // Half of the time that we have, as sd_watchdog_enabled(3) advises.
    let every = watched.map_or(STATUS_EVERY, |limit| (limit / 2).min(STATUS_EVERY));
    house.tasks().spawn(watch(house.clone(), every, watched.is_some()));
}

/// Says that we stop, and what there is to be ended.
pub(crate) fn end(house: &House) {
    tell(&[NotifyState::Stopping, NotifyState::Status(&format!("stopping: {}", status(house)))]);
}

async fn watch(house: Arc<House>, every: Duration, is_watched: bool) {
    // The first is told already.
    let mut ticks = interval_at(Instant::now() + every, every);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    let mut told = "no show on air".to_owned();
    loop {
        tokio::select! {
            _ = ticks.tick() => {}
            () = house.stopping().cancelled() => return,
        }
        if is_watched {
            tell(&[NotifyState::Watchdog]);
        }
        let line = status(&house);
        if line != told {
            tell(&[NotifyState::Status(&line)]);
            told = line;
        }
    }
}

/// A supervisor that does not listen is no reason not to carry shows.
fn tell(states: &[NotifyState<'_>]) {
    if let Err(error) = sd_notify::notify(states) {
        tracing::debug!(%error, "the supervisor of the machine was not told");
    }
}

/// How it stands, in a line.
fn status(house: &House) -> String {
    let shows = house.shows();
    let legs: Vec<LegPhase> = shows.iter().flat_map(|show| show.legs()).map(|leg| leg.record.state).collect();
    let all = legs.iter().filter(|state| !matches!(state, LegPhase::Off)).count();
    let carrying = legs.iter().filter(|state| matches!(state, LegPhase::Carrying)).count();
    let mut line = match shows.len() {
        0 => "no show on air".to_owned(),
        1 => format!("1 show on air, {carrying} of {all} legs carry"),
        count => format!("{count} shows on air, {carrying} of {all} legs carry"),
    };
    if !house.database_answers() {
        line.push_str("; the database does not answer, records wait");
    }
    line
}
