use std::time::Duration;

/// The shortest pause between two reads.
const SHORTEST: Duration = Duration::from_millis(2);

/// The longest; senders may catch up twice as much.
const LONGEST: Duration = Duration::from_millis(5);

/// What share of the latency a pause may take.
const SHARE: u32 = 50;

/// So many datagrams in one read are a busy line, whose buffer in the kernel must not fill.
const BUSY: usize = 48;

/// How long to rest until the next read, which then brings many datagrams: it is the call that costs. The latency of
/// the protocol hides it.
pub(crate) fn rest(latency: Duration, came: usize) -> Duration {
    if came >= BUSY { SHORTEST } else { (latency / SHARE).clamp(SHORTEST, LONGEST) }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::short_latency(20, 1, 2)]
    #[case::usual_latency(500, 10, 5)]
    #[case::between(150, 10, 3)]
    #[case::a_busy_line(500, 48, 2)]
    fn the_latency_hides_the_pause(#[case] latency: u64, #[case] came: usize, #[case] expected: u64) {
        assert_eq!(rest(Duration::from_millis(latency), came), Duration::from_millis(expected));
    }
}
