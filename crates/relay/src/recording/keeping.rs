use std::time::Duration;

use time::OffsetDateTime;

/// How long takes are kept on the disk. What is not set is no limit.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Keeping {
    /// Takes that ended longer ago than this go.
    pub age: Option<Duration>,
    /// The newest so many stay.
    pub count: Option<u32>,
    /// The newest so many bytes stay.
    pub size_bytes: Option<u64>,
}

/// A take as the rules of keeping see it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Kept {
    /// When it ended.
    pub ended_at: OffsetDateTime,
    /// What it takes on the disk.
    pub size_bytes: u64,
    /// False for one that is being written, is locked, or waits to be copied: it stays, and counts.
    pub may_go: bool,
}

impl Keeping {
    /// True if nothing ever goes.
    pub fn keeps_all(&self) -> bool {
        *self == Self::default()
    }

    /// The places of the takes that are to go. `takes` are those of one channel, the newest first.
    pub fn expired(&self, takes: &[Kept], now: OffsetDateTime) -> Vec<usize> {
        let mut bytes = 0u64;
        let mut gone = Vec::new();
        for (place, take) in takes.iter().enumerate() {
            bytes = bytes.saturating_add(take.size_bytes);
            let too_old = self.age.is_some_and(|age| now - take.ended_at > age);
            let too_many = self.count.is_some_and(|count| place >= count as usize);
            let too_large = self.size_bytes.is_some_and(|most| bytes > most);
            if take.may_go && (too_old || too_many || too_large) {
                gone.push(place);
            }
        }
        gone
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use time::macros::datetime;

    use super::*;

    const NOW: OffsetDateTime = datetime!(2026-05-17 16:00 UTC);

    /// Ten takes of a gigabyte, one a day.
    fn takes() -> Vec<Kept> {
        let take = |days: i64| Kept { ended_at: NOW - time::Duration::days(days), size_bytes: 1_000, may_go: true };
        (0..10).map(take).collect()
    }

    const DAY: Duration = Duration::from_secs(86_400);

    #[rstest]
    #[case::all(Keeping::default(), &[])]
    #[case::by_age(Keeping { age: Some(DAY.saturating_mul(7)), ..Keeping::default() }, &[8, 9])]
    #[case::by_count(Keeping { count: Some(6), ..Keeping::default() }, &[6, 7, 8, 9])]
    #[case::by_size(Keeping { size_bytes: Some(8_500), ..Keeping::default() }, &[8, 9])]
    #[case::whichever_comes_first(Keeping { age: Some(DAY), count: Some(3), size_bytes: Some(9_000) }, &[2, 3, 4, 5, 6, 7, 8, 9])]
    fn the_oldest_go(#[case] keeping: Keeping, #[case] expected: &[usize]) {
        assert_eq!(keeping.expired(&takes(), NOW), expected);
    }

    #[test]
    fn what_is_written_or_locked_stays_and_counts() {
        let mut takes = takes();
        takes[0].may_go = false;
        takes[8].may_go = false;
        let keeping = Keeping { count: Some(7), ..Keeping::default() };
        assert_eq!(keeping.expired(&takes, NOW), [7, 9]);
    }
}
