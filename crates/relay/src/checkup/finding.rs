use std::collections::VecDeque;
use std::time::Instant;

use waverant_media::TrackId;

use super::{FindingCode, Remedy, Severity};

/// Findings of the past that are kept of a show; more are only counted.
const MAX_PAST: usize = 200;

/// Findings that stand at a time; more are not told. Sixteen tracks and a hundred destinations stay below it.
const MAX_STANDING: usize = 256;

/// What a finding is of: a code may stand for several tracks or destinations at a time.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct FindingKey {
    /// What it is about.
    pub code: FindingCode,
    /// The track, where it is of one.
    pub track: Option<TrackId>,
    /// The destination, where it is of one.
    pub destination: Option<String>,
}

/// Something that a rule sees at one moment.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Condition {
    /// What it is of.
    pub key: FindingKey,
    /// How bad.
    pub severity: Severity,
    /// What was found.
    pub cause: String,
    /// What to change, in the encoder or at the destination.
    pub advice: String,
    /// What the house can do about it.
    pub remedy: Option<Remedy>,
    /// False if it is too weak to be told anew, and strong enough to be told on.
    pub is_full: bool,
}

impl Condition {
    /// A condition of the whole stream or house, as bad as its code usually is.
    pub fn new(code: FindingCode, cause: impl Into<String>, advice: impl Into<String>) -> Self {
        Self {
            key: FindingKey { code, track: None, destination: None },
            severity: code.severity(),
            cause: cause.into(),
            advice: advice.into(),
            remedy: None,
            is_full: true,
        }
    }

    /// The same, of one track.
    #[must_use]
    pub fn of_track(mut self, track: TrackId) -> Self {
        self.key.track = Some(track);
        self
    }

    /// The same, of one destination.
    #[must_use]
    pub fn of_destination(mut self, name: &str) -> Self {
        self.key.destination = Some(name.to_owned());
        self
    }

    /// The same, as bad as is said.
    #[must_use]
    pub fn with_severity(mut self, severity: Severity) -> Self {
        self.severity = severity;
        self
    }

    /// The same, with what the house can do about it.
    #[must_use]
    pub fn with_remedy(mut self, remedy: Option<Remedy>) -> Self {
        self.remedy = remedy;
        self
    }

    /// The same, told anew only if `is_full`.
    #[must_use]
    pub fn told_anew_if(mut self, is_full: bool) -> Self {
        self.is_full = is_full;
        self
    }
}

/// A judgement that stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// What it is of.
    pub key: FindingKey,
    /// How bad.
    pub severity: Severity,
    /// What was found, with the figures as they are now.
    pub cause: String,
    /// What to change.
    pub advice: String,
    /// What the house can do about it, if it is asked to.
    pub remedy: Option<Remedy>,
    /// Since when it is so; that is before it was told.
    pub since: Instant,
}

/// A judgement that stood.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PastFinding {
    /// As it was at its end.
    pub finding: Finding,
    /// When it ended.
    pub until: Instant,
}

/// What an update changed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum FindingChange {
    /// It stands from now on.
    Raised(Finding),
    /// It stands no more.
    Cleared(PastFinding),
}

impl FindingChange {
    /// What it is of.
    pub fn key(&self) -> &FindingKey {
        match self {
            Self::Raised(finding) => &finding.key,
            Self::Cleared(past) => &past.finding.key,
        }
    }
}

#[derive(Clone, Debug)]
struct Standing {
    finding: Finding,
    /// Since when its condition is gone.
    gone_since: Option<Instant>,
}

/// Makes findings of what rules see, once a second: what lasts is told, and told until it is gone as long as its code
/// demands.
#[derive(Clone, Debug, Default)]
pub struct Checkup {
    standing: Vec<Standing>,
    waiting: Vec<(FindingKey, Instant)>,
    past: VecDeque<PastFinding>,
    more_past: u64,
}

impl Checkup {
    /// Takes all that the rules see at `now`, and says what changed.
    pub fn update(&mut self, now: Instant, conditions: Vec<Condition>) -> Vec<FindingChange> {
        let mut changes = Vec::new();
        self.waiting.retain(|(key, _)| conditions.iter().any(|condition| condition.is_full && condition.key == *key));
        for condition in &conditions {
            if let Some(standing) = self.standing.iter_mut().find(|standing| standing.finding.key == condition.key) {
                standing.gone_since = None;
                let finding = &mut standing.finding;
                (finding.severity, finding.cause, finding.advice) =
                    (condition.severity, condition.cause.clone(), condition.advice.clone());
                finding.remedy = condition.remedy;
            } else if condition.is_full && self.standing.len() < MAX_STANDING {
                changes.extend(self.consider(now, condition));
            }
        }
        self.forgive(now, &conditions, &mut changes);
        changes
    }

    fn consider(&mut self, now: Instant, condition: &Condition) -> Option<FindingChange> {
        let key = &condition.key;
        let waiting = self.waiting.iter().find(|(waiting, _)| waiting == key);
        let since = waiting.map_or(now, |(_, since)| *since);
        if now.saturating_duration_since(since) < key.code.patience().raised_after {
            if waiting.is_none() {
                self.waiting.push((key.clone(), now));
            }
            return None;
        }
        self.waiting.retain(|(waiting, _)| waiting != key);
        let Condition { key, severity, cause, advice, remedy, .. } = condition.clone();
        let finding = Finding { key, severity, cause, advice, remedy, since };
        self.standing.push(Standing { finding: finding.clone(), gone_since: None });
        Some(FindingChange::Raised(finding))
    }

    fn forgive(&mut self, now: Instant, conditions: &[Condition], changes: &mut Vec<FindingChange>) {
        let (past, more_past) = (&mut self.past, &mut self.more_past);
        self.standing.retain_mut(|standing| {
            let key = &standing.finding.key;
            if conditions.iter().any(|condition| condition.key == *key) {
                return true;
            }
            let gone_since = *standing.gone_since.get_or_insert(now);
            if now.saturating_duration_since(gone_since) < key.code.patience().cleared_after {
                return true;
            }
            let ended = PastFinding { finding: standing.finding.clone(), until: gone_since };
            if past.len() < MAX_PAST {
                past.push_back(ended.clone());
            } else {
                *more_past += 1;
            }
            changes.push(FindingChange::Cleared(ended));
            false
        });
    }

    /// What stands now: the worst first, then the oldest.
    pub fn standing(&self) -> Vec<Finding> {
        let mut findings: Vec<Finding> = self.standing.iter().map(|standing| standing.finding.clone()).collect();
        findings.sort_by(|one, other| other.severity.cmp(&one.severity).then(one.since.cmp(&other.since)));
        findings
    }

    /// What stood, in the order in which it ended, and how many more there were.
    pub fn past(&self) -> (impl Iterator<Item = &PastFinding>, u64) {
        (self.past.iter(), self.more_past)
    }
}

#[cfg(test)]
#[expect(clippy::disallowed_methods, reason = "one start instant is taken, then only added to")]
mod tests {
    use std::time::Duration;

    use super::*;

    fn bitrate() -> Condition {
        Condition::new(FindingCode::LimitBitrate, "too much", "less").of_destination("tindrel")
    }

    /// Updates at each second in `seconds`, and returns what changed, with the second.
    fn run(
        checkup: &mut Checkup,
        start: Instant,
        seconds: std::ops::Range<u64>,
        conditions: &[Condition],
    ) -> Vec<(u64, bool)> {
        let mut changes = Vec::new();
        for second in seconds {
            let found = checkup.update(start + Duration::from_secs(second), conditions.to_vec());
            changes.extend(found.iter().map(|change| (second, matches!(change, FindingChange::Raised(_)))));
        }
        changes
    }

    #[test]
    fn what_lasts_is_told_and_forgiven_as_slowly() {
        let (start, mut checkup) = (Instant::now(), Checkup::default());
        assert_eq!(run(&mut checkup, start, 0..6, &[bitrate()]), []);
        assert_eq!(run(&mut checkup, start, 6..8, &[]), [], "it begins anew");
        assert_eq!(run(&mut checkup, start, 8..30, &[bitrate()]), [(18, true)]);
        assert_eq!(checkup.standing()[0].since, start + Duration::from_secs(8), "since it is so, not since it is told");
        assert_eq!(run(&mut checkup, start, 30..35, &[]), []);
        assert_eq!(run(&mut checkup, start, 35..40, &[bitrate()]), [], "it does not flutter");
        assert_eq!(run(&mut checkup, start, 40..60, &[]), [(50, false)]);
        let (past, more) = checkup.past();
        let past: Vec<_> = past.map(|past| past.until).collect();
        assert_eq!((past, more), (vec![start + Duration::from_secs(40)], 0));
    }

    #[test]
    fn what_is_weak_is_told_on_and_not_anew() {
        let (start, mut checkup) = (Instant::now(), Checkup::default());
        let weak = bitrate().told_anew_if(false);
        assert_eq!(run(&mut checkup, start, 0..60, std::slice::from_ref(&weak)), []);
        assert_eq!(run(&mut checkup, start, 60..80, &[bitrate()]), [(70, true)]);
        assert_eq!(run(&mut checkup, start, 80..500, &[weak]), []);
        assert_eq!(run(&mut checkup, start, 500..520, &[]), [(510, false)]);
    }

    #[test]
    fn each_destination_has_its_own_and_the_worst_stands_first() {
        let (start, mut checkup) = (Instant::now(), Checkup::default());
        let refused = Condition::new(FindingCode::LegRefused, "no", "ask").of_destination("plovio");
        let conditions = [bitrate(), bitrate().of_destination("plovio"), refused];
        run(&mut checkup, start, 0..20, &conditions);
        let names: Vec<_> =
            checkup.standing().iter().map(|one| (one.key.code, one.key.destination.clone().unwrap())).collect();
        let expected = [
            (FindingCode::LegRefused, "plovio".to_owned()),
            (FindingCode::LimitBitrate, "tindrel".to_owned()),
            (FindingCode::LimitBitrate, "plovio".to_owned()),
        ];
        assert_eq!(names, expected);
    }

    #[test]
    fn the_past_is_bounded() {
        let (start, mut checkup) = (Instant::now(), Checkup::default());
        for round in 0..300 {
            let refused = Condition::new(FindingCode::LegRefused, "no", "ask").of_destination("plovio");
            run(&mut checkup, start, round * 2..round * 2 + 1, &[refused]);
            run(&mut checkup, start, round * 2 + 1..round * 2 + 2, &[]);
        }
        let (past, more) = checkup.past();
        assert_eq!((past.count(), more), (MAX_PAST, 100));
    }

    #[test]
    fn words_lead_back_to_codes() {
        for code in FindingCode::ALL {
            assert_eq!(FindingCode::from_word(code.word()), Some(*code));
        }
        assert_eq!(FindingCode::from_word("sleet"), None);
    }
}
