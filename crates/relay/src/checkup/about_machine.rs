use super::about::{About, percent};
use super::code::FindingCode;
use super::rules::thresholds as at;

impl FindingCode {
    /// Those of the machine, and of other systems.
    pub(super) fn machine(self) -> Option<About> {
        self.resources().or_else(|| self.other_systems())
    }

    fn other_systems(self) -> Option<About> {
        Some(match self {
            Self::HouseSystemSilent => About::new(
                "a system that is asked before somebody is let in did not answer five questions in a row; until it does",
                (
                    "it is down, slow, or says what cannot be followed",
                    "see `waverant house-system show`; `--when-silent known-keys` lets known keys in meanwhile. Shows \
                     that are on air go on",
                ),
            ),
            Self::CallTargetFails => About::new(
                "a target of calls took nothing for five minutes; until it does",
                (
                    "it is down, its address is another one now, or what it wants has changed",
                    "see `waverant delivery list --state waiting`; what happens waits for it for three days, and is told \
                     in order when it is back",
                ),
            ),
            _ => return None,
        })
    }

    fn resources(self) -> Option<About> {
        Some(match self {
            Self::UplinkFull => About::new(
                format!(
                    "destinations and viewers take {:.0} % of the uplink that the settings tell; until less than {:.0} %",
                    at::UPLINK.raise * 100.0,
                    at::UPLINK.keep * 100.0
                ),
                (
                    "more destinations and viewers than the uplink carries",
                    "lower the bitrate, or switch a destination off; viewers can be sent to a depot",
                ),
            ),
            Self::CpuShort => About::new(
                format!(
                    "{} of all processors of the machine are used; until less than {}",
                    percent(at::PROCESSOR.raise),
                    percent(at::PROCESSOR.keep)
                ),
                (
                    "something else runs on it, or more viewers than it can serve",
                    "end what else runs on it; fewer destinations and viewers take less",
                ),
            ),
            Self::MemoryShort => About::new(
                format!(
                    "{} of the machine's memory are used; until less than {}",
                    percent(at::MEMORY.raise),
                    percent(at::MEMORY.keep)
                ),
                ("something else runs on it", "end it; the kernel ends programs when nothing is left"),
            ),
            Self::DiskLow => About::new(
                "the disk of the recordings lasts for less than two hours, or is full",
                ("recordings fill the disk", "remove recordings, or have them copied and removed by rule"),
            ),
            Self::DatabaseAway => About::new(
                "the database does not answer, or takes no records",
                (
                    "the database was stopped, its disk is full, or it may only be read from",
                    "see that it runs and has room; shows go on, and what happens is written when it is back",
                ),
            ),
            _ => return None,
        })
    }
}
