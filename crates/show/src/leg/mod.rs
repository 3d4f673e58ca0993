//! Legs: one task per session and destination. The state machine is in the relay crate; here
//! are its sockets and clocks, in a folder per protocol.

mod probe;
mod rtmp;
mod srt;
mod status;

use std::sync::Arc;
use std::time::Instant;

use tokio::sync::watch;
use tokio::time::sleep_until;
use waverant_media::MediaTime;
use waverant_relay::{Cursor, LegAddress, LegState, Read};

pub(crate) use probe::probe;
pub(crate) use status::{LegSnapshot, LegStatus};

use crate::house::{Entry, Ledger, LegOrder};
use crate::show::{Feed, FeedRead, LegHandle, Show, watched};
use rtmp::RtmpLeg;
use srt::SrtLeg;

/// A leg may be this far behind before it jumps to the newest keyframe.
const ALLOWANCE: MediaTime = MediaTime::from_millis(6_000);

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

/// Starts the task of a leg.
pub(crate) fn start(show: Arc<Show>, ledger: Ledger, order: &LegOrder) -> LegHandle {
    let (sender, orders) = watch::channel(order.clone());
    let status = Arc::new(LegStatus::new(show.id, &order.destination));
    let (task_status, order) = (status.clone(), order.clone());
    let (events, name) = (show.clone(), order.destination.name.clone());
    let leg = move || make(show.clone(), ledger.clone(), (orders.clone(), order.clone()), task_status.clone()).run();
    let task = watched(leg, move || {
        events.note_event(format!("the leg to `{name}` failed by a fault of ours; it is begun anew"));
    });
    LegHandle { orders: sender, status, task: Some(tokio::spawn(task)) }
}

fn make(
    show: Arc<Show>,
    ledger: Ledger,
    (orders, order): (watch::Receiver<LegOrder>, LegOrder),
    status: Arc<LegStatus>,
) -> LegTask {
    LegTask {
        feed: show.feed.clone(),
        show,
        ledger,
        orders,
        order,
        status,
        cursor: Cursor::from_beginning(ALLOWANCE),
        rtmp: RtmpLeg::default(),
        srt: SrtLeg::default(),
    }
}

struct LegTask {
    show: Arc<Show>,
    ledger: Ledger,
    orders: watch::Receiver<LegOrder>,
    /// The orders that are being followed.
    order: LegOrder,
    status: Arc<LegStatus>,
    /// The packets, as late as the leg's delay says.
    feed: Arc<Feed>,
    cursor: Cursor,
    /// What is kept from one connection to the next, by protocol.
    rtmp: RtmpLeg,
    srt: SrtLeg,
}

impl LegTask {
    async fn run(mut self) {
        // A delayed feed that nobody read has ended, though the show goes on: another one is begun.
        while !(self.feed.has_ended() && self.show.is_done()) {
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
                    self.cursor = Cursor::new(ALLOWANCE);
                    self.wait_for_orders(until).await;
                }
            }
        }
        self.move_leg(|leg, now| leg.switch_off(now));
    }

    /// Takes the newest orders, and goes to where they want the leg.
    fn follow_orders(&mut self) {
        let order = self.orders.borrow_and_update().clone();
        let delay = order.delay();
        if self.feed.delay != delay || (self.feed.has_ended() && !self.show.is_done()) {
            self.feed = self.show.feed(delay);
            self.cursor = Cursor::new(ALLOWANCE);
            self.status.set_delay(delay);
        }
        self.set_rules(&order);
        let starts_at = self.feed.begins_at.max(self.show.began + order.start_after());
        self.move_leg(|leg, now| {
            if !order.sending.switched_on {
                leg.switch_off(now);
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
            tracing::info!(session = self.show.id, destination, state, reason = record.reason, "leg");
            self.ledger.write(Entry::Leg(record));
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
            () = self.feed.over.cancelled() => {}
        }
    }

    async fn dial(&mut self) {
        let end = match self.order.address() {
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
        let (orders, order, feed) = (&mut self.orders, &self.order, &self.feed);
        tokio::select! {
            dialed = dialing => {
                // What came meanwhile is looked at as soon as the connection is up.
                orders.mark_changed();
                dialed
            }
            () = wait_for_other_orders(orders, order) => Err(CarryEnd::Ended),
            () = feed.over.cancelled() => Err(CarryEnd::Ended),
        }
    }
}

/// What a leg took from its feed.
struct Taken {
    /// How far behind the newest packet they are.
    lag: MediaTime,
    /// Nothing follows what is there.
    has_ended: bool,
    /// Packets were missed before the first.
    jumped: bool,
}

/// Takes the next packets from the hub into `entries`, none if there is no news. What was missed is
/// counted.
fn take_packets(
    feed: &Feed,
    cursor: &mut Cursor,
    status: &LegStatus,
    entries: &mut Vec<waverant_relay::Entry>,
) -> Result<Taken, CarryEnd> {
    entries.clear();
    let stopped_at = cursor.stopped_at();
    let FeedRead { read, lag, has_ended } = feed.read(cursor, MAX_ENTRIES, entries);
    if let (Some(stopped_at), Some(first)) = (stopped_at, entries.first()) {
        status.tell_resumed(first.packet.dts - stopped_at);
    }
    let jumped = match read {
        Read::End => return Err(CarryEnd::Ended),
        Read::Jumped { missed_frame_count, missed } => {
            status.count_dropped(missed_frame_count, missed);
            true
        }
        Read::UpToDate => false,
    };
    Ok(Taken { lag, has_ended, jumped })
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
