//! Whether a transport stream of one program keeps the times that the standard sets, for tests: the
//! clock, the counters, and when what is to be decoded has come.

use std::collections::HashMap;

use super::packet::{NULL_PID, PACKET_LENGTH, TsPacket};
use super::pes::read_header_times;

/// Ticks of 27 MHz in a millisecond.
const MILLISECOND: u64 = 27_000;

/// The clock is told this often (2.7.2 allows 100 ms).
const MAX_CLOCK_GAP: u64 = 40 * MILLISECOND;

/// What waits in a decoder's buffer leaves it within this (2.4.2.6, for AVC and HEVC).
const MAX_WAIT: u64 = 10_000 * MILLISECOND;

/// Reads a transport stream packet by packet, and notes what is not as ISO/IEC 13818-1 wants it.
#[derive(Debug, Default)]
pub struct TsTimingCheck {
    rest: Vec<u8>,
    position: u64,
    clock: Option<u64>,
    clock_count: u64,
    counters: HashMap<u16, u8>,
    /// The decoding time of what is being received, by PID.
    decoding: HashMap<u16, u64>,
    faults: Vec<String>,
}

impl TsTimingCheck {
    /// Looks at the next bytes, cut anywhere.
    pub fn handle_bytes(&mut self, bytes: &[u8]) {
        self.rest.extend_from_slice(bytes);
        let whole = self.rest.len() / PACKET_LENGTH * PACKET_LENGTH;
        let rest = self.rest.split_off(whole);
        for raw in std::mem::replace(&mut self.rest, rest).chunks_exact(PACKET_LENGTH) {
            let parsed = raw.try_into().ok().and_then(TsPacket::parse);
            match parsed {
                Some(packet) => self.look_at(&packet),
                None => self.fault("no packet".to_owned()),
            }
            self.position += 1;
        }
    }

    /// What was found, in words; the first few.
    pub fn faults(&self) -> &[String] {
        &self.faults
    }

    /// How often the clock was told.
    pub fn clock_count(&self) -> u64 {
        self.clock_count
    }

    fn fault(&mut self, text: String) {
        if self.faults.len() < 10 {
            self.faults.push(format!("packet {}: {text}", self.position));
        }
    }

    fn look_at(&mut self, packet: &TsPacket<'_>) {
        if packet.pid == NULL_PID {
            return;
        }
        self.count(packet);
        if let Some(pcr) = packet.adaptation.pcr {
            self.tell(pcr, packet.adaptation.discontinuity);
        }
        let Some(payload) = packet.payload else { return };
        if packet.starts_unit
            && let Some(dts) = read_header_times(payload).map(|(_, dts)| dts * 300)
        {
            self.decoding.insert(packet.pid, dts);
        }
        // The last byte that has come so far must be there before it is to be decoded.
        if let (Some(clock), Some(dts)) = (self.clock, self.decoding.get(&packet.pid).copied()) {
            if dts < clock {
                let late = (clock - dts) / MILLISECOND;
                self.fault(format!("PID {} comes {late} ms after it is to be decoded", packet.pid));
            } else if dts - clock > MAX_WAIT {
                self.fault(format!("PID {} waits {} ms", packet.pid, (dts - clock) / MILLISECOND));
            }
        }
    }

    fn count(&mut self, packet: &TsPacket<'_>) {
        let last = self.counters.insert(packet.pid, packet.continuity);
        let expected = last.map(|last| if packet.payload.is_some() { (last + 1) & 0xf } else { last });
        if expected.is_some_and(|expected| expected != packet.continuity) {
            self.fault(format!("PID {} counts {} after {:?}", packet.pid, packet.continuity, last));
        }
    }

    fn tell(&mut self, pcr: u64, is_discontinuity: bool) {
        self.clock_count += 1;
        if let Some(last) = self.clock.replace(pcr).filter(|_| !is_discontinuity) {
            if pcr <= last {
                self.fault(format!("the clock goes back by {} ms", (last - pcr) / MILLISECOND));
            } else if pcr - last > MAX_CLOCK_GAP {
                self.fault(format!("the clock was not told for {} ms", (pcr - last) / MILLISECOND));
            }
        }
    }
}
