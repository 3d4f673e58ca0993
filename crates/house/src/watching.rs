//! The audience as the rest of the house asks for it.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use time::OffsetDateTime;
use waverant_relay::{ChannelRules, LegPhase, NoRoom, Occurrence, OccurrenceKind, ViewerCounts};
use waverant_store::{StoreError, ViewerMinute};

use crate::House;
use crate::audience::{Load, Spectator, UplinkLoad, ViewerSeat};
use crate::publishing::Publishing;

/// How often it is written how many watched.
const MINUTE: Duration = Duration::from_secs(60);

/// So long a stop waits for the last of it.
const LAST_WRITE: Duration = Duration::from_secs(2);

impl House {
    /// A seat for somebody who fetches segments; it is kept as long as this is asked again with each request.
    ///
    /// # Errors
    /// [`NoRoom`] if all seats are taken.
    pub fn seat_fetcher(&self, rules: &ChannelRules, spectator: &Spectator<'_>) -> Result<(), NoRoom> {
        self.audience.enter(rules, spectator).map(|_| ())
    }

    /// A seat for somebody who stays connected.
    ///
    /// # Errors
    /// [`NoRoom`] if all seats are taken.
    pub fn seat_viewer(&self, rules: &ChannelRules, spectator: &Spectator<'_>) -> Result<ViewerSeat, NoRoom> {
        self.audience.seat(rules, spectator)
    }

    /// True if somebody would get a seat now.
    pub fn has_seat_for(&self, rules: &ChannelRules, spectator: &Spectator<'_>) -> bool {
        self.audience.has_seat_for(rules, spectator)
    }

    /// How many watch a channel.
    pub fn viewer_counts(&self, channel_id: u64) -> ViewerCounts {
        self.audience.with_crowd(|crowd| crowd.counts(channel_id))
    }

    /// How many watch by a link.
    pub fn viewers_by_link(&self, link: u64) -> u32 {
        self.audience.with_crowd(|crowd| crowd.by_link(link))
    }

    /// What the uplink carries now; none if nobody said what it can.
    pub fn uplink(&self) -> Option<UplinkLoad> {
        self.audience.uplink()
    }

    /// How the show of a channel gets to a depot; none if it does not.
    pub fn publishing(&self, channel_id: u64) -> Option<Publishing> {
        self.publishing.of(channel_id)
    }

    /// Notes how a session gets to a depot; `None` when it does so no longer.
    pub fn note_publishing(&self, channel_id: u64, session: u64, now: Option<Publishing>) {
        if let Some(show) = self.show(channel_id).filter(|show| show.id() == session) {
            show.set_publishing_fault(now.as_ref().and_then(|now| now.fault.clone()));
        }
        self.publishing.note(channel_id, session, now);
    }

    /// Looks who is gone, and what shows need of the uplink.
    pub(crate) fn look_after_audience(&self) {
        self.audience.with_crowd(|crowd| crowd.sweep(Instant::now()));
        if self.audience.uplink().is_none() {
            return;
        }
        let mut load = Load::default();
        for show in self.shows() {
            let stream_bps = self.audience.known_bps(show.channel_id(), show.bitrate_bps());
            let is_sent = |phase: LegPhase| !matches!(phase, LegPhase::Off | LegPhase::Refused);
            let legs = show.legs().iter().filter(|leg| is_sent(leg.record.state)).count();
            // A depot takes as much as a platform.
            let depots = usize::from(self.publishing(show.channel_id()).is_some());
            load.add(show.channel_id(), stream_bps, legs + depots);
        }
        self.audience.set_load(load);
    }

    /// Writes each minute how many watched, until the service stops. While the database is away it waits here.
    pub(crate) async fn keep_viewer_minutes(self: Arc<Self>) {
        let mut ticks = tokio::time::interval(MINUTE);
        let mut told: BTreeMap<u64, u32> = BTreeMap::new();
        ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        loop {
            let is_last = tokio::select! {
                _ = ticks.tick() => false,
                () = self.stopping().cancelled() => true,
            };
            self.audience.end_minute(OffsetDateTime::now_utc());
            self.tell_viewers(&mut told);
            let minutes = self.audience.take_minutes();
            let patience = if is_last { LAST_WRITE } else { MINUTE };
            let written = tokio::time::timeout(patience, self.write_viewer_minutes(&minutes)).await;
            if !matches!(written, Ok(Ok(()))) {
                tracing::debug!(?written, "how many watched is written later");
                self.audience.put_back(minutes);
            }
            if is_last {
                return;
            }
        }
    }

    /// Tells others where more or fewer watch than were told last.
    fn tell_viewers(&self, told: &mut BTreeMap<u64, u32>) {
        let directory = self.directory();
        for rules in directory.channels() {
            let counts = self.viewer_counts(rules.id);
            let (now, before) = (counts.total(), told.get(&rules.id).copied().unwrap_or(0));
            if now == before {
                continue;
            }
            told.insert(rules.id, now);
            let text = format!("{}: {now} watching, {before} before", rules.name);
            let changed = Occurrence::new(OccurrenceKind::ViewersChanged, OffsetDateTime::now_utc(), text);
            let changed = changed.in_channel(rules.id, rules.name.as_str()).to("viewers");
            self.ledger.tell_others(changed.with("viewers", now).with("before", before));
        }
        told.retain(|channel, count| *count > 0 && directory.channel(*channel).is_some());
    }

    async fn write_viewer_minutes(&self, minutes: &[ViewerMinute]) -> Result<(), StoreError> {
        if minutes.is_empty() {
            return Ok(());
        }
        self.store.write_viewer_minutes(minutes).await?;
        self.store.forget_viewer_minutes(OffsetDateTime::now_utc()).await
    }
}
