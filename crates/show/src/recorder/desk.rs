use std::time::{Duration, Instant};

use parking_lot::Mutex;
use tokio::sync::Notify;
use waverant_media::MediaTime;

use crate::clock;

/// Marks that wait for the recorder at most.
const MAX_WAITING_MARKS: usize = 64;

/// Where the recorder of a session stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RecorderState {
    /// Nobody wants a recording.
    Off,
    /// It waits for the first keyframe.
    Waiting,
    /// It writes a take.
    Recording,
    /// It was stopped by the disk, and goes on by itself when it can.
    Stopped(String),
}

/// What people and rules want of a session's recorder, and what it says of itself.
#[derive(Debug)]
pub struct RecorderDesk {
    inner: Mutex<Inner>,
    changed: Notify,
}

#[derive(Debug)]
struct Inner {
    /// None if nothing is to be recorded; else how far back it is to begin.
    wanted: Option<Duration>,
    marks: Vec<(MediaTime, String)>,
    state: RecorderState,
    since: Instant,
}

impl RecorderDesk {
    /// `wanted` is told of a session that is recorded from its begin.
    pub fn new(wanted: bool, now: Instant) -> Self {
        let wanted = wanted.then_some(Duration::ZERO);
        let inner = Inner { wanted, marks: Vec::new(), state: RecorderState::Off, since: now };
        Self { inner: Mutex::new(inner), changed: Notify::new() }
    }

    /// Wants a recording that begins `pre_roll` back. False if one is wanted already.
    pub fn start(&self, pre_roll: Duration) -> bool {
        {
            let mut inner = self.inner.lock();
            if inner.wanted.is_some() {
                return false;
            }
            inner.wanted = Some(pre_roll);
        }
        self.changed.notify_waiters();
        true
    }

    /// Wants no recording any more. False if none was wanted.
    pub fn stop(&self) -> bool {
        let was_wanted = self.inner.lock().wanted.take().is_some();
        self.changed.notify_waiters();
        was_wanted
    }

    /// Points out a moment of the session's timeline. False if nothing is being recorded.
    pub fn mark(&self, at: MediaTime, title: String) -> bool {
        let mut inner = self.inner.lock();
        let is_taken = inner.state == RecorderState::Recording && inner.marks.len() < MAX_WAITING_MARKS;
        if is_taken {
            inner.marks.push((at, title));
            self.changed.notify_waiters();
        }
        is_taken
    }

    /// What is being done, and for how long.
    pub fn state(&self) -> (RecorderState, Duration) {
        let inner = self.inner.lock();
        (inner.state.clone(), clock::now().saturating_duration_since(inner.since))
    }

    pub(crate) fn wanted(&self) -> Option<Duration> {
        self.inner.lock().wanted
    }

    pub(super) fn take_marks(&self) -> Vec<(MediaTime, String)> {
        std::mem::take(&mut self.inner.lock().marks)
    }

    /// True if this is news.
    pub(super) fn set_state(&self, state: RecorderState) -> bool {
        let mut inner = self.inner.lock();
        let is_news = inner.state != state;
        if is_news {
            (inner.state, inner.since) = (state, clock::now());
        }
        is_news
    }

    /// Wakes when something else is wanted.
    pub(super) fn changed(&self) -> tokio::sync::futures::Notified<'_> {
        self.changed.notified()
    }
}
