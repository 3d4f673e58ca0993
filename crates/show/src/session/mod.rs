//! A running session: who publishes, its legs and its recorder. The driver of the state machines of the core.

mod checkup;
mod press;
mod publisher;
mod report;
mod seat;
mod senses;
mod slate;
mod snapshot;
mod stage;
mod stay;
mod steering;
mod stills;
mod supervise;
mod surroundings;
mod timeline;

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use time::OffsetDateTime;
use tokio::sync::watch;
use waverant_relay::{
    Attendance, ChannelRules, Gate, HubLimits, LegOrder, NewSession, NotJoined, Opener, RecordingMode, SessionState,
    ShowRecord,
};

pub use checkup::ShownFinding;
pub use publisher::Publisher;
pub use report::{LegReport, ReportedGap, ShowReport};
pub use seat::Seat;
pub use snapshot::{SeenPublisher, SourceSnapshot};
pub use stay::Stay;
pub use steering::Steering;
pub use stills::{NoStill, STILL_WIDTHS};
pub use surroundings::{Registry, ShowEnd, Surroundings};
pub use timeline::SharedTimeline;

use crate::clock;
use crate::context::ShowContext;
use crate::events::Events;
use crate::feed::{Feed, Feeds};
use crate::leg::{self, Dialer, LegHandle, LegSnapshot};
use crate::recorder::{RecorderDesk, Takes};
use crate::senses::Sensed;
use checkup::CheckupDesk;
use press::Press;
use seat::SeatState;
use stage::{Stage, StageDoor};
use steering::Helm;
use stills::Stills;
use timeline::TimelineDesk;

/// What a session begins with.
#[derive(Debug)]
pub struct ShowStart {
    /// Its number.
    pub id: u64,
    /// The channel's rules.
    pub rules: Arc<ChannelRules>,
    /// Its first publisher.
    pub publisher: Publisher,
    /// When it begins.
    pub started_at: OffsetDateTime,
    /// Its legs.
    pub orders: Vec<LegOrder>,
    /// What another system of the house wants of it.
    pub steering: Steering,
    /// True if it is fed from here: it keeps these legs, is not recorded, and takes no other publisher.
    pub is_rehearsal: bool,
}

/// A running session.
#[derive(Debug)]
pub struct Show {
    /// The channel as it was when the session began.
    channel: Arc<ChannelRules>,
    /// The channel's rules as they are now.
    rules: watch::Sender<Arc<ChannelRules>>,
    started_at: OffsetDateTime,
    is_rehearsal: bool,
    helm: Helm,
    /// What its parts get.
    context: ShowContext,
    dialer: Arc<dyn Dialer>,
    /// Who is here, who is on air, and whether the session goes on.
    stage: Arc<StageDoor>,
    legs: Mutex<BTreeMap<u64, LegHandle>>,
    recorder: Arc<RecorderDesk>,
    takes: Arc<Takes>,
    stills: Stills,
    press: Press,
    checkup: CheckupDesk,
    sensed: Mutex<Sensed>,
    timeline: TimelineDesk,
}

impl Show {
    /// Begins a session with its first publisher, and starts its legs and recorder.
    ///
    /// # Errors
    /// [`NotJoined`] if the channel's rules let nobody in, which they never do to a first publisher.
    pub fn begin(surroundings: &Surroundings, start: ShowStart) -> Result<(Arc<Self>, Seat), NotJoined> {
        let began = clock::now();
        let ShowStart { id, rules, publisher, started_at, orders, steering, is_rehearsal } = start;
        let helm = Helm::new(steering);
        let rules = helm.rules(&rules);
        let mut attendance = Attendance::new(rules.takeover, rules.hold, began);
        let joined = attendance.join(began, publisher.opener, publisher.rank)?.joined;
        let first = Arc::new(SeatState::new(joined.seat, publisher));
        surroundings.take_numbers.begin(id);
        note_begin(surroundings, (id, started_at, is_rehearsal), &rules, &first.publisher);
        let stage = Arc::new(StageDoor::new(Stage::new(attendance, rules.takeover, first.clone())));
        let (folder, cut) = (surroundings.spool_folder.clone(), surroundings.stopping.child_token());
        let context = ShowContext {
            id,
            channel: rules.name.clone(),
            began,
            feeds: Arc::new(Feeds::new(HubLimits::default(), began, folder, cut)),
            rates: stage.clone(),
            ledger: surroundings.ledger.clone(),
            events: Arc::new(Events::new(began)),
            lags: surroundings.lags.clone(),
        };
        let is_recorded = rules.recording.mode == RecordingMode::Always && !is_rehearsal;
        let show = Arc::new(Self {
            rules: watch::Sender::new(rules.clone()),
            channel: rules,
            started_at,
            is_rehearsal,
            helm,
            context,
            dialer: surroundings.dialer.clone(),
            stage,
            legs: Mutex::default(),
            recorder: Arc::new(RecorderDesk::new(is_recorded, began)),
            takes: Arc::default(),
            stills: Stills::default(),
            press: Press::default(),
            checkup: CheckupDesk::default(),
            sensed: Mutex::default(),
            timeline: TimelineDesk::default(),
        });
        show.follow_orders(&orders);
        show.note_steering(&orders);
        surroundings.tasks.spawn(supervise::run(show.clone(), surroundings.clone()));
        let (slates, codec) = (surroundings.slates.clone(), surroundings.codec.clone());
        surroundings.tasks.spawn(slate::run(show.clone(), slates, codec.clone()));
        surroundings.tasks.spawn(senses::run(show.clone(), codec, surroundings.checkup.clone()));
        let seat = Seat::new(show.clone(), first);
        Ok((show, seat))
    }

    /// The session's number.
    pub fn id(&self) -> u64 {
        self.context.id
    }

    /// The channel's number.
    pub fn channel_id(&self) -> u64 {
        self.channel.id
    }

    /// When it began.
    pub fn started_at(&self) -> OffsetDateTime {
        self.started_at
    }

    /// True if it is fed by the test picture.
    pub fn is_rehearsal(&self) -> bool {
        self.is_rehearsal
    }

    /// What those get who read the show.
    pub fn context(&self) -> &ShowContext {
        &self.context
    }

    /// The packets, at once.
    pub fn live(&self) -> &Arc<Feed> {
        self.context.feeds.live()
    }

    /// What is heard and seen of it.
    pub fn sensed(&self) -> Sensed {
        self.sensed.lock().clone()
    }

    /// What is wanted of its recorder.
    pub fn recorder(&self) -> &RecorderDesk {
        &self.recorder
    }

    /// Its takes.
    pub fn takes(&self) -> &Takes {
        &self.takes
    }

    /// The channel's rules as they are now.
    pub fn rules(&self) -> Arc<ChannelRules> {
        self.rules.borrow().clone()
    }

    /// Its legs at one moment, by destination name.
    pub fn legs(&self) -> Vec<LegSnapshot> {
        let mut legs: Vec<LegSnapshot> = self.legs.lock().values().map(|leg| leg.status.snapshot()).collect();
        legs.sort_by(|a, b| a.record.destination_name.cmp(&b.record.destination_name));
        legs
    }

    /// True once nobody can publish into it any more; delayed legs may still play on.
    pub fn is_over(&self) -> bool {
        self.stage.lock().attendance.is_over()
    }

    /// Where it stands.
    pub fn state(&self) -> SessionState {
        self.stage.lock().attendance.life().state()
    }

    /// Why the session ended, or what to say where nobody said.
    pub fn end_reason(&self) -> String {
        self.stage.lock().end_reason().unwrap_or("the session was ended").to_owned()
    }

    /// Makes the session follow its channel: the rules and the legs. A rehearsal keeps what it began with.
    pub fn follow(&self, rules: &Arc<ChannelRules>, orders: &[LegOrder]) {
        if self.is_rehearsal {
            return;
        }
        self.rules.send_replace(self.helm.rules(rules));
        self.stage.lock().set_takeover(rules.takeover);
        self.stage.changed.notify_one();
        self.follow_orders(orders);
    }

    /// Makes the session do without a channel that was removed: it goes on, and sends to nobody.
    pub fn follow_removal(&self) {
        if !self.is_rehearsal {
            self.follow_orders(&[]);
        }
    }

    /// True if somebody whom `opener` let in publishes into it, or did.
    pub fn knows(&self, opener: Opener) -> bool {
        let stage = self.stage.lock();
        !stage.attendance.is_over() && stage.openers.contains(&opener)
    }

    /// Ends publishers whose key does not open any more, in order and with the reason.
    pub fn check_keys(&self, gate: &Gate, now: OffsetDateTime) {
        let mut stage = self.stage.lock();
        if stage.attendance.is_over() {
            return;
        }
        let faults: Vec<(Arc<SeatState>, Cow<'static, str>)> =
            stage.seats.values().filter_map(|seat| Some((seat.clone(), seat.fault(gate, now)?))).collect();
        if let Some((_, fault)) = faults.first().filter(|_| faults.len() == stage.seats.len()) {
            stage.note_end(fault);
        }
        for (seat, fault) in faults {
            seat.evict(&fault);
        }
    }

    /// Ends the session from our side: publishers are told, legs and recorder finish. A session that
    /// is over already does not play on at its delayed legs.
    pub fn end(&self, reason: &str) {
        {
            let mut stage = self.stage.lock();
            if stage.attendance.is_over() {
                drop(stage);
                return self.context.feeds.cut();
            }
            stage.note_end(reason);
            stage.end(clock::now());
        }
        self.stage.life_changed.notify_one();
        self.evict_all();
    }

    /// Notes what belongs into the report.
    pub fn note_event(&self, text: String) {
        self.context.events.note(text);
    }

    fn evict_all(&self) {
        let reason = self.end_reason();
        self.stage.lock().evict_all(&reason);
    }

    /// Leaves a destination to people, if another system of the house steered it.
    pub fn release_destination(&self, destination: &str) {
        if self.helm.release(destination) {
            self.note_event(format!("{destination} is no longer steered by the house's system"));
        }
    }

    fn note_steering(&self, orders: &[LegOrder]) {
        let unknown = self.helm.unknown(orders);
        if !unknown.is_empty() {
            self.note_event(format!("the house's system names destinations that are not here: {}", unknown.join(", ")));
        }
    }

    fn follow_orders(&self, orders: &[LegOrder]) {
        let orders = self.helm.orders(orders);
        let mut legs = self.legs.lock();
        for (id, leg) in legs.iter() {
            if !orders.iter().any(|order| order.destination.id == *id) {
                leg.orders.send_if_modified(|order| std::mem::replace(&mut order.is_on, false));
            }
        }
        for order in &orders {
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
                None if self.live().has_ended() => {}
                None => {
                    let handle = leg::start(self.context.clone(), self.dialer.clone(), order);
                    legs.insert(order.destination.id, handle);
                }
            }
        }
    }
}

fn note_begin(
    surroundings: &Surroundings,
    (id, started_at, is_rehearsal): (u64, OffsetDateTime, bool),
    rules: &ChannelRules,
    publisher: &Publisher,
) {
    surroundings.ledger.write(ShowRecord::SessionBegan(NewSession {
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

/// Where a session stands, with the time of a hold made a length.
fn hold_left(state: SessionState, now: Instant) -> Option<Duration> {
    match state {
        SessionState::Holding { until } => Some(until.saturating_duration_since(now)),
        SessionState::OnAir | SessionState::Over => None,
    }
}
