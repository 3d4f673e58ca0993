use std::time::Duration;

use super::thresholds::UPLINK;
use crate::checkup::{Condition, FindingCode, Severity};

/// What is known of the house at one moment.
#[derive(Clone, Copy, Debug, Default)]
pub struct HouseFacts {
    /// The share of the uplink that destinations and viewers take; none if the settings do not tell the uplink.
    pub uplink_share: Option<f64>,
    /// True if nothing more can be recorded.
    pub is_disk_full: bool,
    /// How long the disk lasts at the rate of what is being recorded, if that is not long.
    pub disk_left: Option<Duration>,
    /// For which part of the time shows are heard and seen, if that is less than always.
    pub checkup_part: Option<f64>,
    /// True while the database does not answer.
    pub is_database_away: bool,
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
