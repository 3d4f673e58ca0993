use std::time::Duration;

use waverant_media::MediaTime;

/// A publisher's clock may step back this far between its tracks without being a new clock.
const MAX_STEP_BACK: MediaTime = MediaTime::from_millis(1_000);

/// A publisher's clock may step forward this far; sources that pause their sound do so.
const MAX_STEP_FORWARD: MediaTime = MediaTime::from_millis(10_000);

/// Distance put between the last packet of an old clock and the first of a new one.
const SPLICE: MediaTime = MediaTime::from_millis(33);

/// Joins the clocks of a session's publishers into one timeline that begins at 0 and never
/// jumps back.
#[derive(Clone, Debug, Default)]
pub(super) struct Timeline {
    /// Added to a publisher's time; none until its first packet.
    offset: Option<MediaTime>,
    /// The latest time given out.
    latest: Option<MediaTime>,
    /// Where the next publisher's first packet goes.
    resume_at: MediaTime,
    jump_count: u64,
}

impl Timeline {
    /// How often a publisher's clock jumped.
    pub(super) fn jump_count(&self) -> u64 {
        self.jump_count
    }

    /// The next packet comes from a new publisher, `gap` after the last one.
    pub(super) fn resume_after(&mut self, gap: Duration) {
        self.offset = None;
        self.resume_at =
            self.latest.map_or(MediaTime::ZERO, |latest| latest + MediaTime::from_duration(gap).max(SPLICE));
    }

    /// The session's time for a publisher's time.
    pub(super) fn map(&mut self, source: MediaTime) -> MediaTime {
        let mut offset = *self.offset.get_or_insert(self.resume_at - source);
        if let Some(latest) = self.latest {
            let step = source + offset - latest;
            if step < MediaTime::ZERO - MAX_STEP_BACK || step > MAX_STEP_FORWARD.max(self.resume_at - latest) {
                self.jump_count += 1;
                offset = latest + SPLICE - source;
                self.offset = Some(offset);
            }
        }
        let mapped = source + offset;
        self.latest = Some(self.latest.map_or(mapped, |latest| latest.max(mapped)));
        mapped
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run(timeline: &mut Timeline, times: &[i64]) -> Vec<i64> {
        times.iter().map(|time| timeline.map(MediaTime::from_millis(*time)).millis()).collect()
    }

    #[test]
    fn a_session_begins_at_zero_whatever_the_publisher_counts() {
        assert_eq!(run(&mut Timeline::default(), &[70_000, 70_040, 70_020]), [0, 40, 20]);
    }

    #[test]
    fn a_returning_publisher_goes_on_after_the_gap() {
        let mut timeline = Timeline::default();
        run(&mut timeline, &[5000, 6000]);
        timeline.resume_after(Duration::from_secs(4));
        assert_eq!(run(&mut timeline, &[0, 40]), [5000, 5040]);
        timeline.resume_after(Duration::from_secs(60));
        assert_eq!(run(&mut timeline, &[0, 40]), [65_040, 65_080]);
        assert_eq!(timeline.jump_count(), 0);
    }

    #[test]
    fn jumps_are_spliced_and_counted() {
        let mut timeline = Timeline::default();
        assert_eq!(run(&mut timeline, &[0, 40, 3_600_000, 3_600_040]), [0, 40, 73, 113]);
        assert_eq!(run(&mut timeline, &[50, 90]), [146, 186]);
        assert_eq!(timeline.jump_count(), 2);
    }
}
