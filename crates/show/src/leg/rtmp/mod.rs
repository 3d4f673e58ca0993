//! Legs over RTMP.

mod carry;
pub(super) mod probe;

use std::time::Duration;

use waverant_net::{Reach, Wire};
use waverant_relay::{LegDestination, Mask, RtmpSink};
use waverant_rtmp::{ClientConfig, ClientConnection, ClientPurpose, ClientTarget, Greeting, RtmpAddress};

use super::{Call, CarryEnd, Dialed, LegTask};
use carry::RtmpCarrier;

use crate::clock;

/// How often in a row a platform may send us to another address.
const MAX_MOVES: u32 = 4;

/// A connection that carried for this long was no turn on the way to another one.
const SETTLED: Duration = Duration::from_secs(30);

/// What a leg keeps from one connection to the next.
#[derive(Debug, Default)]
pub(super) struct RtmpLeg {
    pub(super) sink: RtmpSink,
    /// How the next connection greets: a server that breaks off the one is offered the next.
    greeting: Greeting,
    /// The address that the platform sent us to; for the next connection only.
    moved_to: Option<RtmpAddress>,
    /// How often in a row it did so.
    moves: u32,
    /// Where the destination's own address leads.
    home: Option<Reach>,
}

impl LegTask {
    /// Connects and carries, until that connection is over.
    pub(super) async fn dial_rtmp(&mut self, address: RtmpAddress) -> CarryEnd {
        let destination = self.order.destination.clone();
        let moved_to = self.rtmp.moved_to.take();
        let is_moved = moved_to.is_some();
        let address = moved_to.unwrap_or(address);
        let greeting = self.rtmp.greeting;
        let (dialer, home) = (self.dialer.clone(), self.rtmp.home);
        let call = Call { destination: &destination, address: &address, is_moved, home };
        let dialing = async { dialer.dial(call).await.map_err(|error| CarryEnd::Lost(error.told(&destination.name))) };
        let end = match self.unless_called_off(dialing).await {
            Ok(Dialed { wire, home }) => {
                self.rtmp.home = home;
                let client = client(&destination, &address, greeting, ClientPurpose::Publish);
                self.carry_rtmp(wire, client).await
            }
            Err(end) => end,
        };
        match end {
            CarryEnd::Moved { target, reason } => self.follow_move(&address, target.as_deref(), reason),
            end => end,
        }
    }

    /// The platform wants us elsewhere, or to come anew.
    fn follow_move(&mut self, from: &RtmpAddress, target: Option<&str>, reason: String) -> CarryEnd {
        self.rtmp.moves += 1;
        if self.rtmp.moves > MAX_MOVES {
            self.rtmp.moves = 0;
            return CarryEnd::Lost(format!("{reason}; that was {MAX_MOVES} times in a row"));
        }
        match target.map(|target| from.resolve(target)).transpose() {
            Ok(address) => {
                self.rtmp.moved_to = address;
                CarryEnd::Moved { target: None, reason }
            }
            Err(error) => {
                CarryEnd::Refused(format!("the platform sent us to another address that cannot be used: {error}"))
            }
        }
    }

    async fn carry_rtmp(&mut self, wire: Wire, client: ClientConnection) -> CarryEnd {
        self.rtmp.sink.begin_connection(self.show.rates.rates());
        self.reader.restart();
        let mask = Mask::new([self.order.destination.key.reveal()]);
        let mut carrier = RtmpCarrier::new(wire, client, self.status.clone(), (mask, self.show.rates.clone()));
        carrier.set_batch(self.order.batch);
        let began = clock::now();
        let mut taken = false;
        loop {
            let end = tokio::select! {
                end = carrier.run(&mut self.rtmp.sink, &mut self.reader, !taken) => end,
                changed = self.orders.changed() => {
                    if changed.is_ok() && self.adopt_orders() {
                        carrier.set_batch(self.order.batch);
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
                    if taken && clock::now().saturating_duration_since(began) >= SETTLED {
                        self.rtmp.moves = 0;
                    }
                    if carrier.is_greeting() {
                        self.rtmp.greeting = self.rtmp.greeting.next();
                    }
                    if matches!(end, CarryEnd::Ended | CarryEnd::Moved { .. }) {
                        carrier.close(&mut self.rtmp.sink).await;
                    } else if matches!(end, CarryEnd::Lost(_)) {
                        carrier.abandon();
                    }
                    return end;
                }
            }
        }
    }
}

/// Our side of a connection to a destination.
fn client(
    destination: &LegDestination,
    address: &RtmpAddress,
    greeting: Greeting,
    purpose: ClientPurpose,
) -> ClientConnection {
    let target = ClientTarget {
        purpose,
        app: address.app().to_owned(),
        tc_url: address.to_string(),
        stream_name: destination.key.reveal().to_owned(),
    };
    let seed = destination.id.wrapping_mul(0x9e37_79b9_7f4a_7c15);
    let config = ClientConfig { seed, greeting, ..ClientConfig::default() };
    ClientConnection::new(config, target, clock::now())
}
