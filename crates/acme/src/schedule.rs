use std::time::Duration;

use time::OffsetDateTime;
use waverant_net::CertificateFacts;

use crate::CertificateName;

/// What is waited after the first failure, the second, and so on; after more, the last.
const WAITS: [u64; 6] = [60, 300, 1800, 7200, 21_600, 43_200];

/// When the certificate is to be renewed: once two thirds of its life are over; at once if there is none, or if it is not for
/// all names that are wanted.
pub(crate) fn due(facts: Option<&CertificateFacts>, names: &[CertificateName], now: OffsetDateTime) -> OffsetDateTime {
    let covers = |facts: &&CertificateFacts| {
        let has =
            |name: &CertificateName| facts.names.iter().any(|known| known.eq_ignore_ascii_case(&name.to_string()));
        !facts.is_placeholder && names.iter().all(has)
    };
    facts.filter(covers).map_or(now, |facts| facts.since + (facts.ends - facts.since) * 2 / 3)
}

/// How long to wait after so many failures in a row; longer if the authority wants it.
pub(crate) fn wait_after(failures: u32, told: Option<Duration>) -> Duration {
    let at = usize::try_from(failures.saturating_sub(1)).unwrap_or(usize::MAX).min(WAITS.len() - 1);
    Duration::from_secs(WAITS[at]).max(told.unwrap_or_default())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use time::macros::datetime;

    use super::*;

    fn facts(names: &[&str]) -> CertificateFacts {
        CertificateFacts {
            names: names.iter().map(|name| (*name).to_owned()).collect(),
            issuer: "CN=Wexcombe Reach test authority".to_owned(),
            since: datetime!(2026-06-01 0:00 UTC),
            ends: datetime!(2026-08-30 0:00 UTC),
            serial: "01".to_owned(),
            fingerprint: String::new(),
            is_placeholder: false,
        }
    }

    #[rstest]
    #[case::the_first(None, datetime!(2026-06-10 0:00 UTC))]
    #[case::two_thirds(Some(facts(&["relay.test", "watch.test"])), datetime!(2026-07-31 0:00 UTC))]
    #[case::in_other_letters(Some(facts(&["Relay.Test", "watch.test", "more.test"])), datetime!(2026-07-31 0:00 UTC))]
    #[case::a_name_is_new(Some(facts(&["relay.test"])), datetime!(2026-06-10 0:00 UTC))]
    #[case::a_placeholder(Some(CertificateFacts { is_placeholder: true, ..facts(&["relay.test", "watch.test"]) }), datetime!(2026-06-10 0:00 UTC))]
    fn it_is_renewed_in_time(#[case] facts: Option<CertificateFacts>, #[case] expected: OffsetDateTime) {
        let names = ["relay.test", "watch.test"].map(|name| name.parse().unwrap());
        assert_eq!(due(facts.as_ref(), &names, datetime!(2026-06-10 0:00 UTC)), expected);
    }

    #[rstest]
    #[case(1, None, 60)]
    #[case(2, None, 300)]
    #[case(60, None, 43_200)]
    #[case(1, Some(3600), 3600)]
    #[case(6, Some(3600), 43_200)]
    fn failures_are_farther_and_farther_apart(#[case] failures: u32, #[case] told: Option<u64>, #[case] expected: u64) {
        assert_eq!(wait_after(failures, told.map(Duration::from_secs)), Duration::from_secs(expected));
    }
}
