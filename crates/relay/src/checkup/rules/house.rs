use std::time::Duration;

use super::thresholds::{MEMORY, PROCESSOR, UPLINK};
use crate::checkup::{Condition, FindingCode, Severity};

/// What is known of the house at one moment.
#[derive(Clone, Copy, Debug, Default)]
pub struct HouseFacts {
    /// The share of the uplink that destinations and viewers take; none if the settings do not tell the uplink.
    pub uplink_share: Option<f64>,
    /// The share of all processors that is used.
    pub processor_share: Option<f64>,
    /// The share of memory that is free or can be.
    pub available_memory: Option<f64>,
    /// True if nothing more can be recorded.
    pub is_disk_full: bool,
    /// How long the disk lasts at the rate of what is being recorded, if that is not long.
    pub disk_left: Option<Duration>,
    /// For which part of the time shows are heard and seen, if that is less than always.
    pub checkup_part: Option<f64>,
    /// True while the database does not answer.
    pub is_database_away: bool,
}

fn machine(facts: &HouseFacts) -> Vec<Condition> {
    let mut found = Vec::new();
    if let Some((share, is_full)) = facts.processor_share.and_then(|share| Some((share, PROCESSOR.reached(share)?))) {
        let cause = format!("{:.0} % of the machine's processors are used", share * 100.0);
        let advice = "end what else runs on it; fewer destinations and viewers take less, and so does a smaller \
                      `checkup.cpu_percent`";
        found.push(Condition::new(FindingCode::CpuShort, cause, advice).told_anew_if(is_full));
    }
    if let Some((free, is_full)) = facts.available_memory.and_then(|free| Some((free, MEMORY.reached(1.0 - free)?))) {
        let cause = format!("{:.0} % of the machine's memory are left", free * 100.0);
        let advice = "end what else runs on it; the kernel ends programs when nothing is left";
        found.push(Condition::new(FindingCode::MemoryShort, cause, advice).told_anew_if(is_full));
    }
    found
}

/// Judges the house, apart from its shows.
pub fn judge_house(facts: &HouseFacts) -> Vec<Condition> {
    let mut found = Vec::new();
    if let Some((share, is_full)) = facts.uplink_share.and_then(|share| Some((share, UPLINK.reached(share)?))) {
        let cause = format!("destinations and viewers take {:.0} % of the uplink", share * 100.0);
        let advice = "lower the bitrate, or switch a destination off; viewers can be sent to a depot";
        let severity = if share > 1.0 { Severity::Alarm } else { Severity::Warning };
        found
            .push(Condition::new(FindingCode::UplinkFull, cause, advice).with_severity(severity).told_anew_if(is_full));
    }
    found.extend(machine(facts));
    let advice = "remove recordings, or have them copied to a depot and removed by rule";
    if facts.is_disk_full {
        let cause = "the disk of the recordings is full: nothing more is recorded";
        found.push(Condition::new(FindingCode::DiskLow, cause, advice).with_severity(Severity::Alarm));
    } else if let Some(left) = facts.disk_left {
        let minutes = left.as_secs() / 60;
        let cause = format!("the disk of the recordings is full in {} h {} min", minutes / 60, minutes % 60);
        found.push(Condition::new(FindingCode::DiskLow, cause, advice));
    }
    if let Some(part) = facts.checkup_part {
        let cause = format!("sound and pictures are looked at for {:.0} % of the time only", part * 100.0);
        let advice = "nothing, or raise `checkup.cpu_percent`; what is judged of packets alone goes on all the time";
        found.push(Condition::new(FindingCode::CheckupThinned, cause, advice));
    }
    if facts.is_database_away {
        let advice = "start it again; shows go on, and what happens is written when it is back";
        found.push(Condition::new(FindingCode::DatabaseAway, "the database does not answer", advice));
    }
    found
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    type F = HouseFacts;

    #[rstest]
    #[case::good(|_: &mut F| {}, None)]
    #[case::uplink(|f: &mut F| f.uplink_share = Some(0.95), Some((FindingCode::UplinkFull, Severity::Warning, true)))]
    #[case::uplink_less(|f: &mut F| f.uplink_share = Some(0.85), Some((FindingCode::UplinkFull, Severity::Warning, false)))]
    #[case::uplink_over(|f: &mut F| f.uplink_share = Some(1.2), Some((FindingCode::UplinkFull, Severity::Alarm, true)))]
    #[case::processors(|f: &mut F| f.processor_share = Some(0.97), Some((FindingCode::CpuShort, Severity::Warning, true)))]
    #[case::memory(|f: &mut F| f.available_memory = Some(0.02), Some((FindingCode::MemoryShort, Severity::Warning, true)))]
    #[case::memory_less(|f: &mut F| f.available_memory = Some(0.07), Some((FindingCode::MemoryShort, Severity::Warning, false)))]
    #[case::disk(|f: &mut F| f.disk_left = Some(Duration::from_secs(3900)), Some((FindingCode::DiskLow, Severity::Warning, true)))]
    #[case::full(|f: &mut F| f.is_disk_full = true, Some((FindingCode::DiskLow, Severity::Alarm, true)))]
    #[case::thinned(|f: &mut F| f.checkup_part = Some(0.4), Some((FindingCode::CheckupThinned, Severity::Note, true)))]
    #[case::database(|f: &mut F| f.is_database_away = true, Some((FindingCode::DatabaseAway, Severity::Alarm, true)))]
    fn the_house_is_judged(#[case] change: fn(&mut F), #[case] expected: Option<(FindingCode, Severity, bool)>) {
        let good = HouseFacts {
            uplink_share: Some(0.5),
            processor_share: Some(0.4),
            available_memory: Some(0.5),
            ..HouseFacts::default()
        };
        let mut facts = good;
        change(&mut facts);
        let found: Vec<_> = judge_house(&facts).iter().map(|one| (one.key.code, one.severity, one.is_full)).collect();
        assert_eq!(found, expected.into_iter().collect::<Vec<_>>());
    }
}
