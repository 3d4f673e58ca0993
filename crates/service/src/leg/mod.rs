//! Legs: one task per session and destination. The state machine is in the relay crate; here
//! are its sockets and clocks.

mod carry;
mod status;

use std::sync::Arc;
use std::time::{Duration, Instant};

use tokio::net::{TcpSocket, TcpStream, lookup_host};
use tokio::sync::watch;
use tokio::time::{sleep_until, timeout};
use waverant_media::MediaTime;
use waverant_relay::{Cursor, LegState, RtmpSink};
use waverant_rtmp::{ClientConfig, ClientConnection, ClientTarget, RtmpAddress};
use waverant_store::Destination;

pub(crate) use status::LegStatus;

use crate::house::{Entry, Ledger, LegOrder};
use crate::show::{LegHandle, Show};
use carry::{Carrier, CarryEnd};

/// How long a name look-up with a TCP connection may take.
const CONNECT_TIMEOUT: Duration = Duration::from_secs(8);

/// Bytes that the kernel holds for a platform, doubled by it. Left alone it would take megabytes,
/// and hide for half a minute that a platform has stopped reading; this carries 20 Mbit/s over
/// 200 ms of round trip.
const SEND_BUFFER: u32 = 256 * 1024;

/// A leg may be this far behind before it jumps to the newest keyframe.
const ALLOWANCE: MediaTime = MediaTime::from_millis(6_000);

/// Starts the task of a leg.
pub(crate) fn start(show: Arc<Show>, ledger: Ledger, order: &LegOrder) -> LegHandle {
    let (sender, orders) = watch::channel(order.clone());
    let status = Arc::new(LegStatus::new(show.id, &order.destination));
    let leg =
        LegTask { show, ledger, orders, status: status.clone(), sink: RtmpSink::new(), cursor: Cursor::new(ALLOWANCE) };
    LegHandle { orders: sender, status, task: tokio::spawn(leg.run()) }
}

struct LegTask {
    show: Arc<Show>,
    ledger: Ledger,
    orders: watch::Receiver<LegOrder>,
    status: Arc<LegStatus>,
    sink: RtmpSink,
    cursor: Cursor,
}

impl LegTask {
    async fn run(mut self) {
        while !self.show.over.is_cancelled() {
            if self.orders.borrow_and_update().switched_on {
                self.move_leg(|leg, now| leg.switch_on(now));
            } else {
                self.move_leg(|leg, now| leg.switch_off(now));
            }
            match self.status.state() {
                LegState::Off | LegState::Carrying => self.wait_for_orders(None).await,
                LegState::WaitingToRedial { until } | LegState::Refused { until } => {
                    self.wait_for_orders(Some(until)).await;
                    self.move_leg(|leg, now| leg.handle_timeout(now));
                }
                LegState::Dialing => self.dial().await,
            }
        }
        self.move_leg(|leg, now| leg.switch_off(now));
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
                if changed.is_ok() && until.is_some() {
                    self.move_leg(|leg, now| leg.switch_off(now));
                }
            }
            () = waited => {}
            () = self.show.over.cancelled() => {}
        }
    }

    async fn dial(&mut self) {
        let destination = self.orders.borrow().destination.clone();
        let connected = tokio::select! {
            connected = connect(&destination) => connected,
            changed = self.orders.changed() => {
                if changed.is_ok() {
                    self.move_leg(|leg, now| leg.switch_off(now));
                }
                return;
            }
            () = self.show.over.cancelled() => return,
        };
        let end = match connected {
            Ok((stream, client)) => self.carry(stream, client).await,
            Err(reason) => CarryEnd::Lost(reason),
        };
        match end {
            CarryEnd::Lost(reason) => self.move_leg(|leg, now| leg.lost(now, reason)),
            CarryEnd::Refused(reason) => self.move_leg(|leg, now| leg.refused(now, reason)),
            CarryEnd::Ended => self.move_leg(|leg, now| leg.switch_off(now)),
        }
    }

    async fn carry(&mut self, stream: TcpStream, client: ClientConnection) -> CarryEnd {
        self.sink.begin_connection();
        self.cursor.restart();
        let mut carrier = Carrier::new(stream, client, self.show.clone(), self.status.clone());
        let mut taken = false;
        loop {
            let end = tokio::select! {
                end = carrier.run(&mut self.sink, &mut self.cursor, !taken) => end,
                // Any change of orders ends the connection in order; the loop outside begins anew.
                _ = self.orders.changed() => Some(CarryEnd::Ended),
            };
            match end {
                None => {
                    taken = true;
                    self.move_leg(|leg, now| leg.taken(now));
                }
                Some(CarryEnd::Ended) => {
                    carrier.close().await;
                    return CarryEnd::Ended;
                }
                Some(end) => return end,
            }
        }
    }
}

async fn connect(destination: &Destination) -> Result<(TcpStream, ClientConnection), String> {
    let address: RtmpAddress = destination.address.parse().map_err(|error| format!("address: {error}"))?;
    let dialed = timeout(CONNECT_TIMEOUT, open_socket(address.host(), address.port())).await;
    let stream = match dialed {
        Ok(Ok(stream)) => stream,
        Ok(Err(error)) => return Err(format!("{} could not be reached: {error}", destination.name)),
        Err(_) => {
            return Err(format!("{} did not answer within {} s", destination.name, CONNECT_TIMEOUT.as_secs()));
        }
    };
    let target = ClientTarget {
        app: address.app().to_owned(),
        tc_url: address.to_string(),
        stream_name: destination.key.reveal().to_owned(),
    };
    let config = ClientConfig { seed: destination.id.wrapping_mul(0x9e37_79b9_7f4a_7c15), ..ClientConfig::default() };
    Ok((stream, ClientConnection::new(config, target, Instant::now())))
}

/// Tries the addresses of a host one after the other.
async fn open_socket(host: &str, port: u16) -> std::io::Result<TcpStream> {
    let mut failure = std::io::Error::other("the name has no address");
    for address in lookup_host((host, port)).await? {
        let socket = if address.is_ipv4() { TcpSocket::new_v4()? } else { TcpSocket::new_v6()? };
        socket.set_send_buffer_size(SEND_BUFFER)?;
        socket.set_nodelay(true)?;
        match socket.connect(address).await {
            Ok(stream) => return Ok(stream),
            Err(error) => failure = error,
        }
    }
    Err(failure)
}
