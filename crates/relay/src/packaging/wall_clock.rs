use std::time::Duration;

use time::OffsetDateTime;
use waverant_media::MediaTime;

/// Which date a moment of the packets' timeline had.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct WallClock {
    /// The moment.
    pub at: MediaTime,
    /// Its date.
    pub date: OffsetDateTime,
}

impl WallClock {
    /// The date of another moment.
    pub fn date_of(&self, moment: MediaTime) -> OffsetDateTime {
        let (later, earlier) = ((moment - self.at).to_duration(), (self.at - moment).to_duration());
        let date = self.date.checked_add(to_span(later)).and_then(|date| date.checked_sub(to_span(earlier)));
        date.unwrap_or(self.date)
    }
}

fn to_span(duration: Duration) -> time::Duration {
    time::Duration::try_from(duration).unwrap_or(time::Duration::ZERO)
}
