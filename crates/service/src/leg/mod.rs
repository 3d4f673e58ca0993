//! Legs: one task per session and destination. The state machine is in the relay crate; here
//! are its sockets and clocks.

mod carry;
mod dial;
mod probe;
mod status;

use std::sync::Arc;
use std::time::{Duration, Instant};

use tokio::sync::watch;
use tokio::time::sleep_until;
use waverant_media::MediaTime;
use waverant_relay::{Cursor, LegState, RtmpSink};
use waverant_rtmp::{ClientConnection, Greeting, RtmpAddress};

pub(crate) use probe::probe;
pub(crate) use status::{LegSnapshot, LegStatus};

use crate::house::{Entry, Ledger, LegOrder};
use crate::net::Wire;
use crate::show::{Feed, LegHandle, Show};
use carry::{Carrier, CarryEnd};

/// How often in a row a platform may send us to another address.
const MAX_MOVES: u32 = 4;

/// A connection that carried for this long was no turn on the way to another one.
const SETTLED: Duration = Duration::from_secs(30);

/// A leg may be this far behind before it jumps to the newest keyframe.
const ALLOWANCE: MediaTime = MediaTime::from_millis(6_000);

/// Starts the task of a leg.
pub(crate) fn start(show: Arc<Show>, ledger: Ledger, order: &LegOrder) -> LegHandle {
    let (sender, orders) = watch::channel(order.clone());
    let status = Arc::new(LegStatus::new(show.id, &order.destination));
    let leg = LegTask {
        feed: show.feed.clone(),
        show,
        ledger,
        orders,
        order: order.clone(),
        status: status.clone(),
        sink: RtmpSink::new(),
        cursor: Cursor::new(ALLOWANCE),
        greeting: Greeting::Plain,
        moved_to: None,
        moves: 0,
    };
    LegHandle { orders: sender, status, task: Some(tokio::spawn(leg.run())) }
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
    sink: RtmpSink,
    cursor: Cursor,
    /// How the next connection greets: a server that breaks off the one is offered the next.
    greeting: Greeting,
    /// The address that the platform sent us to; for the next connection only.
    moved_to: Option<RtmpAddress>,
    /// How often in a row it did so.
    moves: u32,
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
        self.sink.set_rules(order.sink.clone());
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
        let destination = self.order.destination.clone();
        let address = match self.moved_to.take() {
            Some(address) => address,
            None => match destination.settings.address.parse::<RtmpAddress>() {
                Ok(address) => address,
                Err(error) => return self.move_leg(|leg, now| leg.refused(now, format!("address: {error}"))),
            },
        };
        let connected = tokio::select! {
            connected = dial::dial(&destination, &address, self.greeting) => connected,
            () = wait_for_other_orders(&mut self.orders, &self.order) => {
                return self.move_leg(|leg, now| leg.switch_off(now));
            }
            () = self.feed.over.cancelled() => return,
        };
        let end = match connected {
            Ok((wire, client)) => self.carry(wire, client).await,
            Err(reason) => CarryEnd::Lost(reason),
        };
        match end {
            CarryEnd::Lost(reason) => self.move_leg(|leg, now| leg.lost(now, reason)),
            CarryEnd::Refused(reason) => self.move_leg(|leg, now| leg.refused(now, reason)),
            CarryEnd::Moved { target, reason } => self.follow_move(&address, target.as_deref(), reason),
            CarryEnd::Ended => self.move_leg(|leg, now| leg.switch_off(now)),
        }
    }

    /// The platform wants us elsewhere, or to come anew.
    fn follow_move(&mut self, from: &RtmpAddress, target: Option<&str>, reason: String) {
        self.moves += 1;
        if self.moves > MAX_MOVES {
            self.moves = 0;
            let reason = format!("{reason}; that was {MAX_MOVES} times in a row");
            return self.move_leg(|leg, now| leg.lost(now, reason));
        }
        match target.map(|target| from.resolve(target)).transpose() {
            Ok(address) => {
                self.moved_to = address;
                self.move_leg(|leg, now| leg.moved(now, reason));
            }
            Err(error) => {
                let reason = format!("the platform sent us to another address that cannot be used: {error}");
                self.move_leg(|leg, now| leg.refused(now, reason));
            }
        }
    }

    async fn carry(&mut self, wire: Wire, client: ClientConnection) -> CarryEnd {
        self.sink.begin_connection(self.show.rates());
        self.cursor.restart();
        let mut carrier = Carrier::new(wire, client, self.feed.clone(), self.status.clone());
        carrier.set_batch(self.order.batch());
        let began = Instant::now();
        let mut taken = false;
        loop {
            let end = tokio::select! {
                end = carrier.run(&mut self.sink, &mut self.cursor, !taken) => end,
                changed = self.orders.changed() => {
                    let order = self.orders.borrow_and_update().clone();
                    if changed.is_ok() && !self.order.needs_new_connection(&order) {
                        carrier.set_batch(order.batch());
                        self.sink.set_rules(order.sink.clone());
                        self.order = order;
                        continue;
                    }
                    // The connection ends in order; the loop outside begins anew.
                    Some(CarryEnd::Ended)
                }
            };
            match end {
                None => {
                    taken = true;
                    self.move_leg(|leg, now| leg.taken(now));
                }
                Some(end) => {
                    if taken && began.elapsed() >= SETTLED {
                        self.moves = 0;
                    }
                    if carrier.is_greeting() {
                        self.greeting = self.greeting.next();
                    }
                    if matches!(end, CarryEnd::Ended | CarryEnd::Moved { .. }) {
                        carrier.close(&mut self.sink).await;
                    }
                    return end;
                }
            }
        }
    }
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
