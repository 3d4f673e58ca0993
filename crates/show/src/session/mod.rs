//! A running session: who publishes, its packets as its readers get them, its legs and its recorder.

mod delay;
mod events;
mod feed;
mod report;
mod seat;
mod slate;
mod snapshot;
mod spool;
mod stage;
mod supervise;
mod viewer;
mod watched;

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::atomic::AtomicU64;
use std::sync::{Arc, Weak};
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use time::OffsetDateTime;
use tokio::sync::{Notify, watch};
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;
use waverant_relay::{Admission, HubLimits, RecordingMode, SeatId, SessionState, SourceCounters};
use waverant_store::{NewSession, TakeRecord};

pub(crate) use feed::{Feed, FeedRead};
pub(crate) use report::ShowReport;
pub(crate) use seat::{Arrival, Publisher, Seat};
pub(crate) use snapshot::SourceSnapshot;
pub(crate) use viewer::Viewer;
pub(crate) use watched::watched;

use crate::house::{ChannelRules, Directory, Entry, House, LegOrder};
use crate::leg::LegStatus;
use crate::recorder::RecorderDesk;
use events::Events;
use seat::SeatState;
use stage::Stage;

/// What a session begins with.
#[derive(Debug)]
pub(crate) struct ShowStart {
    pub(crate) id: u64,
    pub(crate) rules: ChannelRules,
    pub(crate) admission: Admission,
    pub(crate) arrival: Arrival,
    pub(crate) started_at: OffsetDateTime,
    /// For a rehearsal: the legs that it has.
    pub(crate) rehearsal: Option<Vec<LegOrder>>,
}

/// A leg as its session holds it.
#[derive(Debug)]
pub(crate) struct LegHandle {
    pub(crate) orders: watch::Sender<LegOrder>,
    pub(crate) status: Arc<LegStatus>,
    /// None once somebody waits for its end.
    pub(crate) task: Option<JoinHandle<()>>,
}

/// A running session.
#[derive(Debug)]
pub(crate) struct Show {
    pub(crate) id: u64,
    /// The channel as it was when the session began.
    pub(crate) channel: ChannelRules,
    pub(crate) started_at: OffsetDateTime,
    pub(crate) began: Instant,
    /// For a rehearsal: the legs that it has, whatever the channel's are.
    rehearsal: Option<Vec<LegOrder>>,
    /// The packets, at once.
    pub(crate) feed: Arc<Feed>,
    /// The packets, later; for as long as a leg reads them.
    delayed: Mutex<BTreeMap<Duration, Weak<Feed>>>,
    spool_folder: PathBuf,
    viewer_count: AtomicU64,
    /// Cancelled when the session is over and its last packet is in the feed.
    pub(crate) over: CancellationToken,
    /// Cancelled when delayed legs are not to play on.
    cut: CancellationToken,
    pub(crate) takes: Mutex<Vec<TakeRecord>>,
    pub(crate) recorder: Arc<RecorderDesk>,
    pub(crate) legs: Mutex<BTreeMap<u64, LegHandle>>,
    /// The channel's rules as they are now.
    rules: Mutex<ChannelRules>,
    /// Who is here, who is on air, and whether the session goes on. Locked before the seats and the hub.
    stage: Mutex<Stage>,
    stage_changed: Notify,
    seats: Mutex<BTreeMap<SeatId, Arc<SeatState>>>,
    /// The publisher that is shown: the one on air, else the last one that was.
    shown: Mutex<Arc<SeatState>>,
    /// What publishers did wrong that are gone.
    past_counters: Mutex<SourceCounters>,
    slate_findings: Mutex<Vec<String>>,
    events: Events,
    life_changed: Notify,
    end_reason: Mutex<Option<String>>,
}

impl Show {
    /// Begins a session with its first publisher, and starts its legs and recorder. None if the
    /// channel's rules let nobody in, which they never do to a first publisher.
    pub(crate) fn begin(house: &Arc<House>, start: ShowStart) -> Option<(Arc<Self>, Seat)> {
        let began = Instant::now();
        let publisher = Publisher::new(&start.admission, start.arrival);
        let mut stage = Stage::new(&start.rules, began);
        let joined = stage.attendance.join(began, publisher.key_id, publisher.key_rank).ok()?.joined;
        let first = Arc::new(SeatState::new(joined.seat, publisher));
        house.library.numbers.begin(start.id);
        note_begin(house, &start.rules, start.id, start.started_at, &first.publisher, start.rehearsal.is_some());
        let is_recorded = start.rules.recording.mode == RecordingMode::Always && start.rehearsal.is_none();
        let show = Arc::new(Self {
            id: start.id,
            rules: Mutex::new(start.rules.clone()),
            channel: start.rules,
            started_at: start.started_at,
            began,
            rehearsal: start.rehearsal,
            feed: Arc::new(Feed::new(HubLimits::default(), Duration::ZERO, began)),
            delayed: Mutex::default(),
            spool_folder: house.spool_folder.clone(),
            viewer_count: AtomicU64::new(0),
            over: CancellationToken::new(),
            cut: house.stopping.child_token(),
            takes: Mutex::new(Vec::new()),
            recorder: Arc::new(RecorderDesk::new(is_recorded, began)),
            legs: Mutex::new(BTreeMap::new()),
            stage: Mutex::new(stage),
            stage_changed: Notify::new(),
            seats: Mutex::new([(joined.seat, first.clone())].into()),
            shown: Mutex::new(first.clone()),
            past_counters: Mutex::default(),
            slate_findings: Mutex::default(),
            events: Events::new(began),
            life_changed: Notify::new(),
            end_reason: Mutex::new(None),
        });
        show.follow(house, &house.directory());
        house.tasks.spawn(supervise::run(show.clone(), house.clone()));
        house.tasks.spawn(slate::run(show.clone(), house.slates.clone()));
        let seat = Seat::new(show.clone(), first);
        Some((show, seat))
    }

    pub(crate) fn is_rehearsal(&self) -> bool {
        self.rehearsal.is_some()
    }

    /// The channel's rules as they are now.
    pub(crate) fn rules(&self) -> ChannelRules {
        self.rules.lock().clone()
    }

    /// The packets as a leg with this delay gets them.
    pub(crate) fn feed(self: &Arc<Self>, delay: Duration) -> Arc<Feed> {
        if delay.is_zero() {
            return self.feed.clone();
        }
        let mut delayed = self.delayed.lock();
        delayed.retain(|_, feed| feed.strong_count() > 0);
        if let Some(feed) = delayed.get(&delay).and_then(Weak::upgrade).filter(|feed| !feed.has_ended()) {
            return feed;
        }
        let feed = delay::start(self, delay, self.spool_folder.clone(), self.cut.clone());
        delayed.insert(delay, Arc::downgrade(&feed));
        feed
    }

    /// True if no more packets come to any feed.
    pub(crate) fn is_done(&self) -> bool {
        self.over.is_cancelled() || self.cut.is_cancelled()
    }

    /// How long the last packets still are on their way to the legs after the end.
    pub(super) fn longest_delay(&self) -> Duration {
        let delayed = self.delayed.lock();
        let running = delayed.iter().filter(|(_, feed)| feed.strong_count() > 0);
        running.map(|(delay, _)| *delay).max().unwrap_or_default()
    }

    pub(crate) fn is_over(&self) -> bool {
        self.stage.lock().attendance.life().state() == SessionState::Over
    }

    /// Why the session ended, or what to say where nobody said.
    pub(crate) fn end_reason(&self) -> String {
        self.end_reason.lock().clone().unwrap_or_else(|| "the session was ended".to_owned())
    }

    /// Makes the session follow the directory: its rules, its legs, and publishers whose key is gone.
    pub(crate) fn follow(self: &Arc<Self>, house: &Arc<House>, directory: &Directory) {
        match &self.rehearsal {
            Some(orders) => self.follow_orders(house, orders),
            None => {
                if let Some(rules) = directory.channel(self.channel.id) {
                    *self.rules.lock() = rules.clone();
                    self.stage.lock().set_takeover(rules.takeover);
                    self.stage_changed.notify_one();
                }
                self.follow_orders(house, directory.orders(self.channel.id));
            }
        }
        self.check_keys(directory, OffsetDateTime::now_utc());
    }

    /// Ends publishers whose key does not open any more, in order and with the reason.
    pub(crate) fn check_keys(&self, directory: &Directory, now: OffsetDateTime) {
        if self.is_over() || self.is_rehearsal() {
            return;
        }
        let seats: Vec<Arc<SeatState>> = self.seats.lock().values().cloned().collect();
        let fault = |seat: &SeatState| Some(directory.key_fault(seat.publisher.key_id, now)?.for_publisher());
        let faults: Vec<(&Arc<SeatState>, &str)> = seats.iter().filter_map(|seat| Some((seat, fault(seat)?))).collect();
        if let Some((_, fault)) = faults.first().filter(|_| faults.len() == seats.len()) {
            self.note_end(fault);
        }
        for (seat, fault) in faults {
            seat.evict(fault);
        }
    }

    fn follow_orders(self: &Arc<Self>, house: &Arc<House>, orders: &[LegOrder]) {
        let mut legs = self.legs.lock();
        for (id, leg) in legs.iter() {
            if !orders.iter().any(|order| order.destination.id == *id) {
                let switch = |order: &mut LegOrder| std::mem::replace(&mut order.sending.switched_on, false);
                leg.orders.send_if_modified(switch);
            }
        }
        for order in orders {
            match legs.get(&order.destination.id) {
                Some(leg) => {
                    leg.orders.send_if_modified(|current| {
                        // Whether it is held back is for the session to say.
                        let order = LegOrder { held_back: current.held_back.clone(), ..order.clone() };
                        let changed = *current != order;
                        *current = order;
                        changed
                    });
                }
                None if self.over.is_cancelled() => {}
                None => {
                    legs.insert(order.destination.id, crate::leg::start(self.clone(), house.ledger.clone(), order));
                }
            }
        }
    }

    /// Notes what belongs into the report.
    pub(crate) fn note_event(&self, text: String) {
        self.events.note(text);
    }

    /// Ends the session from our side: publishers are told, legs and recorder finish. A session that
    /// is over already does not play on at its delayed legs.
    pub(crate) fn end(&self, reason: &str) {
        if self.is_over() {
            return self.cut.cancel();
        }
        self.note_end(reason);
        self.end_life();
        self.evict_all();
    }

    /// Sends away whoever still publishes. To be called once the session is over: who joins later
    /// sees that itself.
    fn evict_all(&self) {
        let reason = self.end_reason();
        for seat in self.seats.lock().values() {
            seat.evict(&reason);
        }
    }

    fn end_life(&self) {
        let now = Instant::now();
        self.stage.lock().attendance.end(now);
        self.life_changed.notify_one();
    }

    /// The first reason stays.
    fn note_end(&self, reason: &str) {
        self.end_reason.lock().get_or_insert_with(|| reason.to_owned());
    }
}

fn note_begin(
    house: &House,
    rules: &ChannelRules,
    id: u64,
    started_at: OffsetDateTime,
    publisher: &Publisher,
    is_rehearsal: bool,
) {
    house.ledger.write(Entry::SessionBegan(NewSession {
        id,
        channel_id: rules.id,
        channel_name: rules.name.to_string(),
        key_label: publisher.key_label.clone(),
        publisher_address: publisher.peer.to_string(),
        encoder: publisher.encoder.clone(),
        started_at,
        is_rehearsal,
    }));
    tracing::info!(session = id, channel = %rules.name, peer = %publisher.peer, is_rehearsal, "on air");
}
