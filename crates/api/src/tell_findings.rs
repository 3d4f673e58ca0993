//! Findings as they are told.

use std::time::{Duration, Instant};

use time::OffsetDateTime;
use waverant_house::{House, severity_word};
use waverant_model::{Finding, FindingMeaning, FindingRemedy};
use waverant_relay::{FindingCode, LegFacts, LegOrder, LegPhase, StreamFacts, judge_leg};
use waverant_show::{Show, ShownFinding};

/// What stands of a show.
pub(crate) fn of_show(show: &Show) -> Vec<Finding> {
    show.findings().into_iter().map(told).collect()
}

/// What stands of the house itself.
pub(crate) fn of_house(house: &House) -> Vec<Finding> {
    let all = house.findings().into_iter();
    all.map(|finding| told(ShownFinding { finding, until: None, destinations: Vec::new(), is_muted: false })).collect()
}

fn told(shown: ShownFinding) -> Finding {
    let ShownFinding { finding, destinations, is_muted, .. } = shown;
    Finding {
        code: finding.key.code.word().to_owned(),
        severity: severity_word(finding.severity),
        since: Some(moment(finding.since)),
        cause: finding.cause,
        remedy: finding.remedy.map(|remedy| FindingRemedy {
            kind: remedy.word().to_owned(),
            text: remedy.text(finding.key.destination.as_deref().unwrap_or_default()),
        }),
        advice: finding.advice,
        track: finding.key.track.map(|track| track.0),
        destination: finding.key.destination,
        destinations,
        is_muted,
    }
}

/// When something was, on the clock on the wall.
pub(crate) fn moment(at: Instant) -> OffsetDateTime {
    let ago = Instant::now().saturating_duration_since(at);
    OffsetDateTime::now_utc() - ago
}

/// What is known of a destination before the show.
pub(crate) fn before_show(orders: &[LegOrder]) -> Vec<Finding> {
    let of = |order: &LegOrder| {
        let facts = StreamFacts { is_secure: order.destination.is_secure(), ..StreamFacts::default() };
        let name = order.destination.name.as_str();
        let found = judge_leg(&LegFacts {
            destination: name,
            phase: LegPhase::Off,
            reason: None,
            redials: 0,
            behind: Duration::ZERO,
            dropped: 0,
            breaches: &order.limits.check(&facts),
            is_held_back: false,
            line: None,
            fitting_track: None,
        });
        let told = found.into_iter().map(|condition| Finding {
            code: condition.key.code.word().to_owned(),
            severity: severity_word(condition.severity),
            since: None,
            cause: condition.cause,
            advice: condition.advice,
            remedy: None,
            track: None,
            destination: Some(name.to_owned()),
            destinations: vec![name.to_owned()],
            is_muted: false,
        });
        told.collect::<Vec<_>>()
    };
    orders.iter().flat_map(of).collect()
}

/// What a code stands for.
pub(crate) fn meaning(code: FindingCode) -> FindingMeaning {
    let (about, patience) = (code.about(), code.patience());
    FindingMeaning {
        code: code.word().to_owned(),
        severity: severity_word(code.severity()),
        when: about.when,
        raised_after_s: patience.raised_after.as_secs(),
        cleared_after_s: patience.cleared_after.as_secs(),
        means: about.means.to_owned(),
        advice: about.advice.to_owned(),
    }
}
