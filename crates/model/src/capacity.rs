//! What shows need of the machine.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use waverant_capacity::{Needs, Resource, ResourceNeed, Verdict};

/// Shows that are planned to run at the same time, all alike, beside what runs now.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PlannedShows {
    /// How many; default 1.
    pub shows: Option<u32>,
    /// Of each, in bits per second.
    pub bitrate_bps: u64,
    /// Destinations of each.
    pub destinations: u32,
    /// Viewers of each; default none.
    #[serde(default)]
    pub viewers: u32,
    /// Tracks of sound of each that are listened to; default 1.
    pub sounds: Option<u32>,
    /// Whether they are recorded; default yes.
    pub is_recorded: Option<bool>,
    /// How long each lasts, in hours; default 1.
    pub hours: Option<f64>,
    /// How many there are in a month; default 4.
    pub shows_a_month: Option<u32>,
    /// What the uplink carries, where the settings do not say.
    pub uplink_bps: Option<u64>,
    /// What the downlink carries.
    pub downlink_bps: Option<u64>,
    /// What the house pays for a terabyte sent, in its money.
    #[serde(default)]
    pub price_sent_tb: f64,
    /// What it pays for a terabyte kept for a month.
    #[serde(default)]
    pub price_kept_tb_month: f64,
}

/// What is used, left and needed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CapacityAnswer {
    /// Uplink, downlink, processor, memory, disk.
    pub resources: Vec<ResourceAnswer>,
    /// What gives first.
    pub first: Option<ResourceName>,
    /// Bytes that the plan sends in a month.
    pub month_sent_bytes: u64,
    /// Bytes that it records in a month.
    pub month_recorded_bytes: u64,
    /// What both cost at the prices that were given.
    pub month_money: f64,
    /// How much more of its processor this machine takes than the figures of the benchmark say; 1 while little runs.
    pub processor_factor: f64,
}

/// One resource.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ResourceAnswer {
    /// Which.
    pub resource: ResourceName,
    /// In which unit: `bps`, `processors` or `bytes`.
    pub unit: String,
    /// What there is in all, as far as it is known.
    pub total: Option<f64>,
    /// What runs now takes.
    pub used: f64,
    /// What is left of it.
    pub left: Option<f64>,
    /// What the plan needs in addition.
    pub needed: f64,
    /// Whether that is left: a fifth is to stay free.
    pub verdict: CapacityVerdict,
    /// How many shows like the planned ones what is left would carry.
    pub shows: Option<u32>,
}

/// What can run out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ResourceName {
    /// What is sent.
    Uplink,
    /// What comes in.
    Downlink,
    /// Processors.
    Processor,
    /// Memory.
    Memory,
    /// The disk of the recordings.
    Disk,
}

/// Whether there is enough.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum CapacityVerdict {
    /// There is.
    Enough,
    /// It goes, without the fifth that should be left.
    Tight,
    /// There is not.
    TooLittle,
    /// What there is, is not known.
    NotKnown,
}

impl CapacityAnswer {
    /// What was reckoned; `used` tells what runs now takes of a resource.
    pub fn new(needs: &Needs, used: impl Fn(Resource) -> f64, processor_factor: f64) -> Self {
        Self {
            resources: needs.resources.iter().map(|need| ResourceAnswer::new(need, used(need.resource))).collect(),
            first: needs.first.map(ResourceName::from),
            month_sent_bytes: whole(needs.month.sent_bytes),
            month_recorded_bytes: whole(needs.month.recorded_bytes),
            month_money: needs.month.money,
            processor_factor,
        }
    }
}

impl ResourceAnswer {
    fn new(need: &ResourceNeed, used: f64) -> Self {
        let unit = match need.resource {
            Resource::Uplink | Resource::Downlink => "bps",
            Resource::Processor => "processors",
            Resource::Memory | Resource::Disk => "bytes",
        };
        Self {
            resource: need.resource.into(),
            unit: unit.to_owned(),
            total: need.available.map(|left| left + used),
            used,
            left: need.available,
            needed: need.needed,
            verdict: need.verdict.into(),
            shows: need.shows.map(|shows| u32::try_from(whole(shows)).unwrap_or(u32::MAX)),
        }
    }
}

#[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "not below 0; saturates")]
fn whole(amount: f64) -> u64 {
    amount as u64
}

impl From<Resource> for ResourceName {
    fn from(resource: Resource) -> Self {
        match resource {
            Resource::Uplink => Self::Uplink,
            Resource::Downlink => Self::Downlink,
            Resource::Processor => Self::Processor,
            Resource::Memory => Self::Memory,
            Resource::Disk => Self::Disk,
        }
    }
}

impl From<Verdict> for CapacityVerdict {
    fn from(verdict: Verdict) -> Self {
        match verdict {
            Verdict::Enough => Self::Enough,
            Verdict::Tight => Self::Tight,
            Verdict::TooLittle => Self::TooLittle,
            Verdict::NotKnown => Self::NotKnown,
        }
    }
}

/// The machine at one moment. Shares and rates are of the last second.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LiveHost {
    /// How many processors it has.
    pub processors: u32,
    /// The share of all processors that is used: 0 to 1.
    pub processor_share: f64,
    /// Memory.
    pub memory_bytes: u64,
    /// Memory that is free or can be.
    pub available_bytes: u64,
    /// Network interfaces, without the loopback.
    pub networks: Vec<LiveNetwork>,
    /// The mean time of a write to a disk; none if nothing was written.
    pub disk_write_ms: Option<f64>,
    /// The service itself.
    pub service: LiveProcess,
    /// Its private database, if it has one.
    pub database: Option<LiveProcess>,
}

/// A network interface at one moment.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LiveNetwork {
    /// Its name.
    pub name: String,
    /// In.
    pub received_bps: f64,
    /// Out.
    pub sent_bps: f64,
}

/// A process at one moment.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct LiveProcess {
    /// The share of one processor.
    pub processor_share: f64,
    /// Bytes in memory.
    pub resident_bytes: u64,
    /// Open files, sockets included.
    pub open_files: u64,
}
