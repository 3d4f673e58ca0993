//! Legs: one task per session and destination. The state machine is in the relay crate; here
//! are its sockets and clocks, in a folder per protocol.

mod dialer;
mod probe;
mod probe_report;
mod rtmp;
mod srt;
mod status;
#[cfg(test)]
mod tests;

use std::sync::Arc;
use std::time::Instant;

use tokio::sync::watch;
use tokio::task::JoinHandle;
use tokio::time::sleep_until;
use waverant_media::MediaTime;
use waverant_relay::{Cursor, LegAddress, LegOrder, LegState, Read, ShowRecord};

pub use dialer::{Call, DialError, Dialed, Dialer, Dialing, TcpDialer};
pub use probe::probe;
pub use probe_report::{ProbeReport, ProbeStep, ProbeStepName};
pub use status::{LegLine, LegSnapshot, LegStatus};

use crate::context::ShowContext;
use crate::feed::{FeedKey, FeedReader, Rendition, Taken};
use crate::watched;
use rtmp::RtmpLeg;
use srt::SrtLeg;

/// A leg may be this far behind before it jumps to the newest keyframe.
pub(crate) const ALLOWANCE: MediaTime = MediaTime::from_millis(6_000);

/// Packets taken from the hub at once.
const MAX_ENTRIES: usize = 64;

/// Why a connection to a platform is done.
#[derive(Debug)]
enum CarryEnd {
    /// It was lost, or given up.
    Lost(String),
    /// The platform said no.
    Refused(String),
    /// The platform wants us at another address, or to come anew.
    Moved {
        /// The address; none for the same one.
        target: Option<String>,
        /// What it said.
        reason: String,
    },
    /// The session is over, or the leg was switched.
    Ended,
}

/// A leg as its session holds it.
#[derive(Debug)]
pub struct LegHandle {
    /// What it is to do; a change is followed at once.
    pub orders: watch::Sender<LegOrder>,
    /// What can be seen of it.
    pub status: Arc<LegStatus>,
    /// None once somebody waits for its end.
    pub task: Option<JoinHandle<()>>,
}

/// Starts the task of a leg. It ends when the show is over and all was sent.
pub(crate) fn start(show: ShowContext, dialer: Arc<dyn Dialer>, order: &LegOrder) -> LegHandle {
    let (sender, orders) = watch::channel(order.clone());
    let status = Arc::new(LegStatus::new(&show, &order.destination));
    let (events, name) = (show.events.clone(), order.destination.name.clone());
    let (task_status, order) = (status.clone(), order.clone());
    let leg = move || {
        let reader = FeedReader::new(show.feeds.live().clone(), Cursor::from_beginning(ALLOWANCE), MAX_ENTRIES);
        let leg = LegTask {
            show: show.clone(),
            dialer: dialer.clone(),
            orders: orders.clone(),
            order: order.clone(),
            status: task_status.clone(),
            reader,
            rtmp: RtmpLeg::default(),
            srt: SrtLeg::default(),
        };
        leg.run()
    };
    let task = watched(leg, move || {
        events.note(format!("the leg to `{name}` failed by a fault of ours; it is begun anew"));
    });
    LegHandle { orders: sender, status, task: Some(tokio::spawn(task)) }
}

struct LegTask {
    show: ShowContext,
    dialer: Arc<dyn Dialer>,
    orders: watch::Receiver<LegOrder>,
    /// The orders that are being followed.
    order: LegOrder,
    status: Arc<LegStatus>,
    /// The packets, as late as the leg's delay says.
    reader: FeedReader,
    /// What is kept from one connection to the next, by protocol.
    rtmp: RtmpLeg,
    srt: SrtLeg,
}

impl LegTask {
    async fn run(mut self) {
        // A delayed feed that nobody read has ended, though the show goes on: another one is begun.
        while !(self.reader.feed().has_ended() && self.show.feeds.is_done()) {
            self.follow_orders();
            match self.status.state() {
                LegState::Dialing => self.dial().await,
                LegState::Carrying => self.wait_for_orders(None).await,
                LegState::WaitingToRedial { until } | LegState::Refused { until } => {
                    self.wait_for_orders(Some(until)).await;
                    self.move_leg(|leg, now| leg.handle_timeout(now));
                }
                LegState::Off { until } => {
                    // What goes by meanwhile is not missed.
                    self.reader.change(self.reader.feed().clone(), Cursor::new(ALLOWANCE));
                    self.wait_for_orders(until).await;
                }
            }
        }
        self.move_leg(|leg, now| leg.switch_off(now));
    }

    /// Takes the newest orders, and goes to where they want the leg.
    fn follow_orders(&mut self) {
        let order = self.orders.borrow_and_update().clone();
        let delay = order.delay;
        let feed = self.reader.feed();
        if feed.delay() != delay || (feed.has_ended() && !self.show.feeds.is_done()) {
            let feed = self.show.feeds.get(FeedKey { rendition: Rendition::Source, delay });
            self.reader.change(feed, Cursor::new(ALLOWANCE));
            self.status.set_delay(delay);
        }
        self.set_rules(&order);
        let starts_at = self.reader.feed().begins_at().max(self.show.began + order.start_after);
        self.move_leg(|leg, now| {
            if !order.is_on {
                leg.switch_off(now);
            } else if let Some(reason) = &order.set_aside {
                leg.hold_back(now, reason.clone());
            } else if let Some(reason) = &order.held_back {
                leg.hold_back(now, format!("not sent, as its limits sheet wants: {reason}"));
            } else if now < starts_at {
                leg.start_at(now, starts_at, order.start_reason());
            } else {
                leg.switch_on(now);
            }
        });
        self.order = order;
    }

    fn set_rules(&mut self, order: &LegOrder) {
        self.rtmp.sink.set_rules(order.sink.clone());
        self.srt.sink.set_rules(order.sink.clone());
    }

    /// Takes orders that came while a connection is up; false if it is of no use for them.
    fn adopt_orders(&mut self) -> bool {
        let order = self.orders.borrow_and_update().clone();
        if self.order.needs_new_connection(&order) {
            return false;
        }
        self.set_rules(&order);
        self.order = order;
        true
    }

    /// Moves the state machine; a move is logged and written down.
    fn move_leg(&self, step: impl FnOnce(&mut waverant_relay::Leg, Instant)) {
        if self.status.step(step) {
            let record = self.status.record();
            let (destination, state) = (&record.destination_name, &record.state);
            let (session, channel) = (self.show.id, &self.show.channel);
            tracing::info!(session, %channel, destination, state = state.name(), reason = record.reason, "leg");
            self.show.ledger.write(ShowRecord::Leg(record));
        }
    }

    async fn wait_for_orders(&mut self, until: Option<Instant>) {
        let waited = async {
            match until {
                Some(until) => sleep_until(until.into()).await,
                None => std::future::pending().await,
            }
        };
        tokio::select! {
            changed = self.orders.changed() => {
                // A new address or key deserves a try at once.
                if changed.is_ok() && self.order.needs_new_connection(&self.orders.borrow()) {
                    self.move_leg(|leg, now| leg.switch_off(now));
                }
            }
            () = waited => {}
            () = self.reader.feed().over().cancelled() => {}
        }
    }

    async fn dial(&mut self) {
        let end = match self.order.destination.address() {
            Ok(LegAddress::Rtmp(address)) => self.dial_rtmp(address).await,
            Ok(LegAddress::Srt(address)) => self.dial_srt(&address).await,
            Err(error) => CarryEnd::Refused(format!("address: {error}")),
        };
        match end {
            CarryEnd::Lost(reason) => self.move_leg(|leg, now| leg.lost(now, reason)),
            CarryEnd::Refused(reason) => self.move_leg(|leg, now| leg.refused(now, reason)),
            CarryEnd::Moved { reason, .. } => self.move_leg(|leg, now| leg.moved(now, reason)),
            CarryEnd::Ended => self.move_leg(|leg, now| leg.switch_off(now)),
        }
    }

    /// Waits for `dialing`; Ended if other orders or the end of the show come first.
    async fn unless_called_off<T>(
        &mut self,
        dialing: impl Future<Output = Result<T, CarryEnd>>,
    ) -> Result<T, CarryEnd> {
        let (orders, order, feed) = (&mut self.orders, &self.order, self.reader.feed());
        tokio::select! {
            dialed = dialing => {
                // What came meanwhile is looked at as soon as the connection is up.
                orders.mark_changed();
                dialed
            }
            () = wait_for_other_orders(orders, order) => Err(CarryEnd::Ended),
            () = feed.over().cancelled() => Err(CarryEnd::Ended),
        }
    }
}

/// Takes the next packets, none if there is no news. What was missed is counted.
fn take_packets(reader: &mut FeedReader, status: &LegStatus) -> Result<Taken, CarryEnd> {
    let taken = reader.take();
    if let Some(step) = taken.resumed {
        status.tell_resumed(step);
    }
    match taken.read {
        Read::End => return Err(CarryEnd::Ended),
        Read::Jumped { missed_frame_count, missed } => status.count_dropped(missed_frame_count, missed),
        Read::UpToDate => {}
    }
    Ok(taken)
}

/// Waits for orders that the connection being made is of no use for.
async fn wait_for_other_orders(orders: &mut watch::Receiver<LegOrder>, current: &LegOrder) {
    while orders.changed().await.is_ok() {
        if current.needs_new_connection(&orders.borrow()) {
            return;
        }
    }
    std::future::pending().await
}
