use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use time::OffsetDateTime;
use tokio::task::spawn_blocking;
use tokio::time::timeout;
use waverant_relay::DueBlock;
use waverant_show::{SharedTimeline, Show};
use waverant_store::FigureBlock;

use super::FigureDays;
use super::leftover::Leftover;
use super::machine::MachineTimeline;
use super::waiting::{Batch, Waiting};

/// A show that is over stays in memory for so long, second by second.
const STAYS: Duration = Duration::from_secs(7_200);

/// Shows that are over take no more bytes than this together; the oldest go first.
const MOST_BYTES: usize = 64 * 1024 * 1024;

/// How long a file of the state folder may take.
const DISK_PATIENCE: Duration = Duration::from_secs(2);

/// A show that is over.
#[derive(Debug)]
struct Past {
    timeline: SharedTimeline,
    bytes: usize,
    over: Instant,
}

/// The timelines of shows that are over, of the machine, and what of all was not written yet.
#[derive(Debug)]
pub(crate) struct TimelineShelf {
    past: Mutex<BTreeMap<u64, Past>>,
    pub(crate) machine: Mutex<MachineTimeline>,
    waiting: Mutex<Waiting>,
    leftover: Leftover,
    has_leftover: AtomicBool,
    days: FigureDays,
}

impl TimelineShelf {
    /// With what an earlier run left. It reads a file.
    pub(crate) fn open(state_folder: &Path, days: FigureDays) -> Self {
        let leftover = Leftover::new(state_folder);
        let left = leftover.read().unwrap_or_else(|error| {
            tracing::warn!(%error, "figures that an earlier run left cannot be read");
            Vec::new()
        });
        let has_leftover = AtomicBool::new(!left.is_empty());
        let mut waiting = Waiting::default();
        left.into_iter().for_each(|block| waiting.add(block));
        let machine = Mutex::new(MachineTimeline::begin(OffsetDateTime::now_utc(), Instant::now()));
        Self { past: Mutex::default(), machine, waiting: Mutex::new(waiting), leftover, has_leftover, days }
    }

    pub(crate) fn days(&self) -> FigureDays {
        self.days
    }

    /// A show is over: what of it was not written yet waits, and it stays for a while.
    pub(crate) fn keep(&self, session: u64, started_at: OffsetDateTime, timeline: SharedTimeline) {
        let (due, bytes) = {
            let mut timeline = timeline.lock();
            (timeline.finish(), timeline.bytes())
        };
        self.wait(due, |due| of_show(session, started_at, due));
        let now = Instant::now();
        let mut past = self.past.lock();
        past.insert(session, Past { timeline, bytes, over: now });
        while past.values().map(|past| past.bytes).sum::<usize>() > MOST_BYTES {
            past.pop_first();
        }
    }

    /// The timeline of a show that is over, while it stays.
    pub(crate) fn of_past(&self, session: u64) -> Option<SharedTimeline> {
        self.past.lock().get(&session).map(|past| past.timeline.clone())
    }

    /// Takes what is to be written by now.
    pub(crate) fn gather(&self, shows: &[Arc<Show>]) {
        let now = Instant::now();
        self.past.lock().retain(|_, past| now.saturating_duration_since(past.over) < STAYS);
        for show in shows {
            let due = show.timeline().lock().due();
            self.wait(due, |due| of_show(show.id(), show.started_at(), due));
        }
        let machine = self.machine.lock().due();
        let mut waiting = self.waiting.lock();
        machine.into_iter().for_each(|block| waiting.add(block));
    }

    /// The machine's last figures.
    pub(crate) fn close(&self) {
        let machine = self.machine.lock().finish();
        let mut waiting = self.waiting.lock();
        machine.into_iter().for_each(|block| waiting.add(block));
    }

    fn wait(&self, due: Vec<DueBlock>, block: impl Fn(DueBlock) -> FigureBlock) {
        let mut waiting = self.waiting.lock();
        let lost = waiting.lost;
        due.into_iter().for_each(|due| waiting.add(block(due)));
        if waiting.lost > lost {
            tracing::warn!(lost = waiting.lost, "the database is away for so long that old figures are given up");
        }
    }

    pub(crate) fn next_batch(&self) -> Option<Batch> {
        self.waiting.lock().next_batch()
    }

    pub(crate) fn done(&self, batch: Batch) {
        self.waiting.lock().done(&batch);
    }

    pub(crate) async fn write_leftover(&self) {
        let (leftover, blocks) = (self.leftover.clone(), self.waiting.lock().all());
        let written = timeout(DISK_PATIENCE, spawn_blocking(move || leftover.write(&blocks))).await;
        if !matches!(written, Ok(Ok(Ok(())))) {
            tracing::error!(?written, "figures that wait cannot be put on the disk");
        }
    }

    /// All that an earlier run left was written.
    pub(crate) async fn remove_leftover(&self) {
        if self.has_leftover.swap(false, Ordering::Relaxed) {
            let leftover = self.leftover.clone();
            let _ = timeout(DISK_PATIENCE, spawn_blocking(move || leftover.remove())).await;
        }
    }
}

fn of_show(session_id: u64, started_at: OffsetDateTime, due: DueBlock) -> FigureBlock {
    let DueBlock { step_s, start_s, bytes } = due;
    let began_at = started_at + time::Duration::seconds(start_s.into());
    FigureBlock { session_id, step_s, start_s: start_s.into(), began_at, bytes }
}

#[cfg(test)]
mod tests {
    use waverant_relay::{Figure, SeriesKey, Timeline};

    use super::*;

    fn shelf(folder: &Path) -> TimelineShelf {
        TimelineShelf::open(folder, FigureDays { tens: 1, minutes: 1 })
    }

    #[tokio::test]
    async fn figures_that_could_not_be_written_are_there_after_a_start() {
        let folder = tempfile::tempdir().unwrap();
        let first = shelf(folder.path());
        let timeline = Arc::new(Mutex::new(Timeline::default()));
        timeline.lock().note(5, vec![(SeriesKey::whole(Figure::Bitrate), 6000.0)]);
        first.keep(7, OffsetDateTime::UNIX_EPOCH, timeline);
        assert!(first.of_past(7).is_some());
        first.write_leftover().await;
        let second = shelf(folder.path());
        let batch = second.next_batch().unwrap();
        let kept: Vec<_> = batch.blocks.iter().map(|block| (block.session_id, block.step_s, block.start_s)).collect();
        assert_eq!(kept, [(7, 10, 0), (7, 60, 0)]);
        second.done(batch);
        second.remove_leftover().await;
        assert!(shelf(folder.path()).next_batch().is_none());
    }
}
