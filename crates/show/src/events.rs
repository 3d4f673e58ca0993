use std::time::{Duration, Instant};

use parking_lot::Mutex;

/// Events that are kept; a show that has more is told by its first ones and a count.
const MAX_EVENTS: usize = 200;

/// Something that happened in a show, and is told in its report.
#[derive(Clone, Debug)]
pub(crate) struct ShowEvent {
    /// From the begin of the show.
    pub(crate) at: Duration,
    pub(crate) text: String,
}

/// What happened in a show.
#[derive(Debug)]
pub(crate) struct Events {
    began: Instant,
    kept: Mutex<(Vec<ShowEvent>, u64)>,
}

impl Events {
    pub(super) fn new(began: Instant) -> Self {
        Self { began, kept: Mutex::new((Vec::new(), 0)) }
    }

    pub(super) fn note(&self, text: String) {
        let at = self.began.elapsed();
        let (events, dropped) = &mut *self.kept.lock();
        if events.len() < MAX_EVENTS {
            events.push(ShowEvent { at, text });
        } else {
            *dropped += 1;
        }
    }

    /// The events, and how many more there were.
    pub(crate) fn all(&self) -> (Vec<ShowEvent>, u64) {
        self.kept.lock().clone()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn events_are_bounded() {
        let events = Events::new(Instant::now());
        for number in 0..250 {
            events.note(format!("event {number}"));
        }
        let (kept, dropped) = events.all();
        assert_eq!((kept.len(), dropped, kept[0].text.as_str()), (200, 50, "event 0"));
    }
}
