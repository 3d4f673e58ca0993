use waverant_media::MediaTime;

/// A publisher's clock may step back this far between its tracks without being a new clock.
const MAX_STEP_BACK: MediaTime = MediaTime::from_millis(1_000);

/// A publisher's clock may step forward this far; sources that pause their sound do so.
const MAX_STEP_FORWARD: MediaTime = MediaTime::from_millis(10_000);

/// Distance put between the last packet of an old clock and the first of a new one.
const SPLICE: MediaTime = MediaTime::from_millis(33);

/// Mends the clock of a publisher: its time begins at 0 and does not jump.
#[derive(Clone, Debug, Default)]
pub(super) struct MendedClock {
    /// Added to a publisher's time; none until its first packet.
    offset: Option<MediaTime>,
    /// The latest time given out.
    latest: Option<MediaTime>,
    jump_count: u64,
}

impl MendedClock {
    /// How often a publisher's clock jumped.
    pub(super) fn jump_count(&self) -> u64 {
        self.jump_count
    }

    /// Moves all times given out from now on.
    pub(super) fn shift(&mut self, by: MediaTime) {
        self.offset = self.offset.map(|offset| offset + by);
        self.latest = self.latest.map(|latest| latest + by);
    }

    /// The mended time for a publisher's time.
    pub(super) fn map(&mut self, source: MediaTime) -> MediaTime {
        let mut offset = *self.offset.get_or_insert(MediaTime::ZERO - source);
        if let Some(latest) = self.latest {
            let step = source + offset - latest;
            if step < MediaTime::ZERO - MAX_STEP_BACK || step > MAX_STEP_FORWARD {
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

    fn run(clock: &mut MendedClock, times: &[i64]) -> Vec<i64> {
        times.iter().map(|time| clock.map(MediaTime::from_millis(*time)).millis()).collect()
    }

    #[test]
    fn a_clock_begins_at_zero_whatever_the_publisher_counts() {
        assert_eq!(run(&mut MendedClock::default(), &[70_000, 70_040, 70_020]), [0, 40, 20]);
    }

    #[test]
    fn jumps_are_spliced_and_counted() {
        let mut clock = MendedClock::default();
        assert_eq!(run(&mut clock, &[0, 40, 3_600_000, 3_600_040]), [0, 40, 73, 113]);
        assert_eq!(run(&mut clock, &[50, 90]), [146, 186]);
        assert_eq!(clock.jump_count(), 2);
    }
}
