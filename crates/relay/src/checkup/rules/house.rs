use std::time::Duration;

use super::thresholds::{CERTIFICATE_LEFT, CLOCK_PUT, DAY, MEMORY, PROCESSOR, UPLINK};
use crate::checkup::{Condition, FindingCode, Severity};

/// What is known of the house at one moment.
/// How long a certificate is good.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct CertificateLeft {
    /// From now on, in seconds; negative once it has ended.
    pub left_s: i64,
    /// In all, in seconds.
    pub life_s: i64,
}

/// What is known of the house at one moment.
#[derive(Clone, Debug, Default)]
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
    /// What is wrong with the database, while something is: it does not answer, or takes no records.
    pub database_fault: Option<String>,
    /// Why a system that is asked before somebody is let in is left alone, and whether nobody is let in meanwhile.
    pub silent_system: Option<(String, bool)>,
    /// Why a target of calls takes none, if that is so for long.
    pub failing_target: Option<String>,
    /// The certificate; none without one that counts.
    pub certificate: Option<CertificateLeft>,
    /// Why the authority gives no new one, if it does not.
    pub renewal_fault: Option<String>,
    /// By how many seconds the clock on the wall was put while the service ran.
    pub clock_put: Option<f64>,
    /// True if that clock shows a time from before this version was made.
    pub is_clock_behind: bool,
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
    found.extend(facts.certificate.and_then(certificate));
    found.extend(renewal(facts));
    found.extend(clock(facts));
    if let Some(fault) = &facts.database_fault {
        let advice = "see that it runs and has room; shows go on, and what happens is written when it is back";
        found.push(Condition::new(FindingCode::DatabaseAway, fault, advice));
    }
    found.extend(silent_system(facts));
    if let Some(told) = &facts.failing_target {
        let advice =
            "see that it takes calls (`waverant call-target try`), or switch it off; what happens waits for it";
        found.push(Condition::new(FindingCode::CallTargetFails, told, advice));
    }
    found
}

fn silent_system(facts: &HouseFacts) -> Option<Condition> {
    let (told, keeps_out) = facts.silent_system.as_ref()?;
    let meanwhile = if *keeps_out { "nobody new is let in" } else { "known keys are let in" };
    let cause = format!("{told}; meanwhile {meanwhile}");
    let advice = "see that it answers (`waverant house-system try`); shows that are on air go on";
    let severity = if *keeps_out { Severity::Alarm } else { Severity::Warning };
    Some(Condition::new(FindingCode::HouseSystemSilent, cause, advice).with_severity(severity))
}

/// Those that are good for days only end soon all the time.
fn certificate(certificate: CertificateLeft) -> Option<Condition> {
    let CertificateLeft { left_s, life_s } = certificate;
    if left_s >= CERTIFICATE_LEFT.min(life_s / 5) {
        return None;
    }
    let advice =
        "renew it and put it in its place: it is read anew without a restart; or see why the authority does not";
    let (cause, severity) = match left_s {
        ..=0 => ("the certificate has ended: encoders, viewers and browsers refuse it".to_owned(), Severity::Alarm),
        left if left < DAY => (format!("the certificate ends in {} h", left / 3600), Severity::Alarm),
        left => (format!("the certificate ends in {} days", left / DAY), Severity::Warning),
    };
    Some(Condition::new(FindingCode::CertificateEnds, cause, advice).with_severity(severity))
}

fn renewal(facts: &HouseFacts) -> Option<Condition> {
    let cause = facts.renewal_fault.as_deref()?;
    let advice = "see the page Certificate of the console, or `waverant certificate show`: it is tried again by itself, and at \
                  once when it is asked for there";
    let severity = if facts.certificate.is_some() { Severity::Warning } else { Severity::Alarm };
    Some(Condition::new(FindingCode::CertificateNotRenewed, cause, advice).with_severity(severity))
}

fn clock(facts: &HouseFacts) -> Option<Condition> {
    let advice = "set up a time service (NTP) and see that it keeps the time: certificates, the times of keys and names \
                  of files go by this clock";
    if facts.is_clock_behind {
        let cause = "the machine's clock shows a time from before this version was made";
        return Some(Condition::new(FindingCode::MachineClockOff, cause, advice).with_severity(Severity::Alarm));
    }
    let put = facts.clock_put.filter(|put| put.abs() > CLOCK_PUT)?;
    let way = if put > 0.0 { "forward" } else { "back" };
    let cause = format!("the machine's clock was put {way} by {:.0} s while the service ran", put.abs());
    Some(Condition::new(FindingCode::MachineClockOff, cause, advice))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    type F = HouseFacts;

    #[expect(clippy::unnecessary_wraps, reason = "as the facts have it")]
    fn left(left_s: i64, days: i64) -> Option<CertificateLeft> {
        Some(CertificateLeft { left_s, life_s: days * DAY })
    }

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
    #[case::certificate(|f: &mut F| f.certificate = left(10 * 86_400, 90), Some((FindingCode::CertificateEnds, Severity::Warning, true)))]
    #[case::certificate_is_good(|f: &mut F| f.certificate = left(15 * 86_400, 90), None)]
    #[case::certificate_of_a_week(|f: &mut F| f.certificate = left(2 * 86_400, 7), None)]
    #[case::certificate_of_a_week_ends(|f: &mut F| f.certificate = left(86_400, 7), Some((FindingCode::CertificateEnds, Severity::Warning, true)))]
    #[case::no_certificate_comes(|f: &mut F| f.renewal_fault = Some("away".to_owned()), Some((FindingCode::CertificateNotRenewed, Severity::Alarm, true)))]
    #[case::certificate_today(|f: &mut F| f.certificate = left(7200, 90), Some((FindingCode::CertificateEnds, Severity::Alarm, true)))]
    #[case::certificate_ended(|f: &mut F| f.certificate = left(-5, 90), Some((FindingCode::CertificateEnds, Severity::Alarm, true)))]
    #[case::clock_put(|f: &mut F| f.clock_put = Some(-3.5), Some((FindingCode::MachineClockOff, Severity::Warning, true)))]
    #[case::clock_steered(|f: &mut F| f.clock_put = Some(0.4), None)]
    #[case::clock_of_old(|f: &mut F| f.is_clock_behind = true, Some((FindingCode::MachineClockOff, Severity::Alarm, true)))]
    #[case::system_closed(|f: &mut F| f.silent_system = Some(("it is down".to_owned(), true)), Some((FindingCode::HouseSystemSilent, Severity::Alarm, true)))]
    #[case::system_silent(|f: &mut F| f.silent_system = Some(("it is down".to_owned(), false)), Some((FindingCode::HouseSystemSilent, Severity::Warning, true)))]
    #[case::target(|f: &mut F| f.failing_target = Some("it is down".to_owned()), Some((FindingCode::CallTargetFails, Severity::Warning, true)))]
    #[case::database(|f: &mut F| f.database_fault = Some("it is full".to_owned()), Some((FindingCode::DatabaseAway, Severity::Alarm, true)))]
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
