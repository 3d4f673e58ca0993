use std::time::{Duration, Instant};

use parking_lot::Mutex;

use crate::clock;

/// Events that are kept; a show that has more is told by its first ones and a count.
const MAX_EVENTS: usize = 200;

/// Something that happened in a show, and is told in its report.
#[derive(Clone, Debug)]
pub struct ShowEvent {
    /// From the begin of the show.
    pub at: Duration,
    /// What.
    pub text: String,
}

/// What happened in a show.
#[derive(Debug)]
pub struct Events {
    began: Instant,
    kept: Mutex<(Vec<ShowEvent>, u64)>,
}

impl Events {
    /// Nothing yet, of a show that began at `began`.
    pub fn new(began: Instant) -> Self {
        Self { began, kept: Mutex::new((Vec::new(), 0)) }
    }

    /// Notes what belongs into the report.
    pub fn note(&self, text: String) {
        let at = clock::now().saturating_duration_since(self.began);
        let (events, dropped) = &mut *self.kept.lock();
        if events.len() < MAX_EVENTS {
            events.push(ShowEvent { at, text });
        } else {
            *dropped += 1;
        }
    }

    /// The events, and how many more there were.
    pub fn all(&self) -> (Vec<ShowEvent>, u64) {
        self.kept.lock().clone()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn events_are_bounded() {
        let events = Events::new(clock::now());
        for number in 0..250 {
            events.note(format!("event {number}"));
        }
        let (kept, dropped) = events.all();
        assert_eq!((kept.len(), dropped, kept[0].text.as_str()), (200, 50, "event 0"));
    }
}
