//! Legs over SRT: we call, and push the show as a transport stream.

mod carry;
mod dial;
pub(super) mod probe;

use waverant_relay::TsSink;
use waverant_srt::SrtAddress;
use waverant_udp::Link;

use super::{CarryEnd, LegTask};
use carry::SrtCarrier;

/// What a leg keeps from one connection to the next.
#[derive(Debug, Default)]
pub(super) struct SrtLeg {
    pub(super) sink: TsSink,
}

impl LegTask {
    /// Connects and carries, until that connection is over.
    pub(super) async fn dial_srt(&mut self, address: &SrtAddress) -> CarryEnd {
        let destination = self.order.destination.clone();
        match self.unless_called_off(dial::dial(&destination, address)).await {
            Ok(link) => self.carry_srt(link).await,
            Err(end) => end,
        }
    }

    async fn carry_srt(&mut self, link: Link) -> CarryEnd {
        self.srt.sink.begin_connection();
        self.reader.restart();
        let mut carrier = SrtCarrier::new(link, self.status.clone());
        self.move_leg(|leg, now| leg.taken(now));
        let end = loop {
            carrier.set_batch(self.order.batch);
            tokio::select! {
                end = carrier.run(&mut self.srt.sink, &mut self.reader) => break end,
                changed = self.orders.changed() => {
                    if changed.is_err() || !self.adopt_orders() {
                        break CarryEnd::Ended;
                    }
                }
            }
        };
        match end {
            CarryEnd::Ended => carrier.close().await,
            _ => carrier.hang_up(),
        }
        self.status.end_line();
        end
    }
}
