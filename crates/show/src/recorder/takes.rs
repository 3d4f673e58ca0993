use parking_lot::Mutex;
use waverant_relay::{TakeRecord, TakeState};

/// The takes of a session as its recorder knows them now, for whoever looks.
#[derive(Debug, Default)]
pub struct Takes(Mutex<Vec<TakeRecord>>);

impl Takes {
    /// Shows the newest length and size of a take.
    pub(crate) fn note(&self, take: &TakeRecord) {
        let mut takes = self.0.lock();
        match takes.iter_mut().find(|shown| shown.number == take.number) {
            Some(shown) => shown.clone_from(take),
            None => takes.push(take.clone()),
        }
    }

    /// The takes that are still open are cut off; returns them.
    pub(crate) fn cut_off(&self) -> Vec<TakeRecord> {
        let mut takes = self.0.lock();
        let open = takes.iter_mut().filter(|take| take.state == TakeState::Writing);
        open.map(|take| {
            take.state = TakeState::CutOff;
            take.clone()
        })
        .collect()
    }

    /// All of them, in order.
    pub fn all(&self) -> Vec<TakeRecord> {
        self.0.lock().clone()
    }

    /// The newest.
    pub fn newest(&self) -> Option<TakeRecord> {
        self.0.lock().last().cloned()
    }
}
