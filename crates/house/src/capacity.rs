//! What runs takes of the machine, and what is left for more.

use waverant_capacity::{Costs, Machine, Plan};
use waverant_relay::LegPhase;
use waverant_show::RecorderState;

use crate::House;

/// Below this share of a processor what runs says nothing of its costs.
const LEAST_LOAD: f64 = 0.02;

/// What runs now takes, measured.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Usage {
    /// Bits per second out: to destinations and viewers.
    pub sent_bps: f64,
    /// Bits per second in.
    pub received_bps: f64,
    /// Processors, of the whole machine.
    pub processors: f64,
    /// Bytes of memory, of the service and its database.
    pub memory_bytes: f64,
    /// What the service takes of one processor, beside what the benchmark's figures say: 1 while little runs.
    pub processor_factor: f64,
}

impl House {
    /// What runs now takes.
    pub fn usage(&self) -> Usage {
        let host = self.host().unwrap_or_default();
        let (mut sent_bps, mut received_bps, mut expected) = (0.0, 0.0, 0.0);
        for show in self.shows() {
            let bitrate_bps = show.bitrate_bps();
            let legs = show.legs();
            let carrying = legs.iter().filter(|leg| leg.record.state == LegPhase::Carrying);
            let viewers = f64::from(self.viewer_counts(show.channel_id()).total());
            received_bps += bitrate_bps;
            sent_bps += carrying.clone().map(|leg| leg.bitrate_bps).sum::<f64>() + viewers * bitrate_bps;
            let plan = Plan {
                shows: 1.0,
                bitrate_bps,
                destinations: carrying.count() as f64,
                viewers,
                sounds: show.sensed().sounds.values().filter(|heard| heard.is_ok()).count() as f64,
                is_recorded: show.recorder().state().0 == RecorderState::Recording,
                hours: 1.0,
                shows_a_month: 0.0,
            };
            expected += plan.processor(&Costs::default());
        }
        let database = host.database.unwrap_or_default();
        let measured = host.service.processor_share;
        Usage {
            sent_bps,
            received_bps,
            processors: host.processor_share * f64::from(host.processors),
            memory_bytes: (host.service.resident_bytes + database.resident_bytes) as f64,
            processor_factor: if expected < LEAST_LOAD { 1.0 } else { measured / expected },
        }
    }

    /// What is left for more shows. What the uplink carries is as the settings say, else as the caller does.
    pub fn left(&self, usage: &Usage, (uplink_bps, downlink_bps): (Option<f64>, Option<f64>)) -> Machine {
        let host = self.host();
        let uplink = self.uplink().map(|load| load.carries_bps as f64).or(uplink_bps);
        let disk = self.library().outlook();
        Machine {
            uplink_bps: uplink.map(|carries| (carries - usage.sent_bps).max(0.0)),
            downlink_bps: downlink_bps.map(|carries| (carries - usage.received_bps).max(0.0)),
            processors: host.as_ref().map(|host| (f64::from(host.processors) - usage.processors).max(0.0)),
            memory_bytes: host.as_ref().map(|host| host.available_bytes as f64),
            disk_bytes: disk.map(|disk| disk.free_bytes.saturating_sub(disk.floor_bytes) as f64),
        }
    }
}
