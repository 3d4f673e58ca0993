use std::collections::VecDeque;
use std::future::Future;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use parking_lot::Mutex;
use time::OffsetDateTime;
use tokio::sync::Semaphore;

use crate::{CheckedTake, LibraryError};

/// Jobs that are remembered; the oldest that is done goes first.
const MAX_JOBS: usize = 200;

/// Jobs that work at the same time: they share one disk.
const AT_ONCE: usize = 2;

/// Long work on takes: seen while it goes on, and for a while after.
#[derive(Debug)]
pub struct Jobs {
    last_id: AtomicU64,
    known: Mutex<VecDeque<Arc<Job>>>,
    turns: Arc<Semaphore>,
}

impl Default for Jobs {
    fn default() -> Self {
        Self { last_id: AtomicU64::new(0), known: Mutex::default(), turns: Arc::new(Semaphore::new(AT_ONCE)) }
    }
}

/// What a job does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum JobKind {
    /// It checks a take.
    Check,
    /// It cuts a piece of a take into a take of its own.
    Cut,
    /// It brings a take back from its depot.
    Restore,
}

/// What came of a job.
#[derive(Clone, Debug)]
pub enum JobOutcome {
    /// What was found of a take.
    Checked(Arc<CheckedTake>),
    /// A take is there that was not before.
    Made(MadeTake),
}

/// A take that a job made or brought back.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct MadeTake {
    /// Its session.
    pub session: u64,
    /// Its number.
    pub take: u32,
    /// How long it plays, in milliseconds; known of a cut.
    pub duration_ms: Option<u64>,
    /// How much it takes, in bytes.
    pub size_bytes: u64,
}

/// Where a job stands.
#[derive(Clone, Debug)]
pub enum JobState {
    /// It waits for its turn.
    Waiting,
    /// It works.
    Running,
    /// It is done.
    Done(JobOutcome),
    /// It failed; why, in words.
    Failed(String),
}

/// One piece of long work.
#[derive(Debug)]
pub struct Job {
    id: u64,
    kind: JobKind,
    session: u64,
    take: u32,
    began_at: OffsetDateTime,
    total_bytes: AtomicU64,
    done_bytes: AtomicU64,
    state: Mutex<JobState>,
}

/// A job at one moment.
#[derive(Clone, Debug)]
pub struct JobView {
    /// The job's number.
    pub id: u64,
    /// What it does.
    pub kind: JobKind,
    /// The take's session.
    pub session: u64,
    /// The take's number.
    pub take: u32,
    /// When it was asked for.
    pub began_at: OffsetDateTime,
    /// Where it stands.
    pub state: JobState,
    /// How much of the work is done, from 0 to 1.
    pub progress: f64,
}

impl Job {
    pub(crate) fn set_total(&self, bytes: u64) {
        self.total_bytes.store(bytes, Ordering::Relaxed);
    }

    pub(crate) fn set_done(&self, bytes: u64) {
        self.done_bytes.store(bytes, Ordering::Relaxed);
    }

    /// The job at this moment.
    pub fn view(&self) -> JobView {
        let (total, done) = (self.total_bytes.load(Ordering::Relaxed), self.done_bytes.load(Ordering::Relaxed));
        let state = self.state.lock().clone();
        #[expect(clippy::cast_precision_loss, reason = "a share")]
        let share = if total == 0 { 0.0 } else { (done as f64 / total as f64).min(1.0) };
        JobView {
            id: self.id,
            kind: self.kind,
            session: self.session,
            take: self.take,
            began_at: self.began_at,
            progress: if matches!(state, JobState::Done(_)) { 1.0 } else { share },
            state,
        }
    }

    fn is_over(&self) -> bool {
        matches!(*self.state.lock(), JobState::Done(_) | JobState::Failed(_))
    }
}

impl Jobs {
    /// Begins a job when its turn comes; what it answers is its outcome.
    pub(crate) fn start<F>(
        &self,
        kind: JobKind,
        (session, take): (u64, u32),
        work: impl FnOnce(Arc<Job>) -> F + Send + 'static,
    ) -> Arc<Job>
    where
        F: Future<Output = Result<JobOutcome, LibraryError>> + Send,
    {
        let job = Arc::new(Job {
            id: self.last_id.fetch_add(1, Ordering::Relaxed) + 1,
            kind,
            session,
            take,
            began_at: OffsetDateTime::now_utc(),
            total_bytes: AtomicU64::new(0),
            done_bytes: AtomicU64::new(0),
            state: Mutex::new(JobState::Waiting),
        });
        self.remember(job.clone());
        let (turns, running) = (self.turns.clone(), job.clone());
        tokio::spawn(async move {
            let Ok(_turn) = turns.acquire_owned().await else { return };
            *running.state.lock() = JobState::Running;
            let outcome = work(running.clone()).await;
            if let Err(error) = &outcome {
                tracing::warn!(?kind, session, take, %error, "a job failed");
            }
            *running.state.lock() = outcome.map_or_else(|error| JobState::Failed(error.to_string()), JobState::Done);
        });
        job
    }

    fn remember(&self, job: Arc<Job>) {
        let mut known = self.known.lock();
        if known.len() >= MAX_JOBS
            && let Some(place) = known.iter().position(|job| job.is_over())
        {
            known.remove(place);
        }
        known.push_back(job);
    }

    /// True if so many wait that no more should be asked for.
    pub fn is_full(&self) -> bool {
        let known = self.known.lock();
        known.len() >= MAX_JOBS && !known.iter().any(|job| job.is_over())
    }

    /// The jobs, the newest first.
    pub fn all(&self) -> Vec<JobView> {
        self.known.lock().iter().rev().map(|job| job.view()).collect()
    }

    /// The job with this number, as long as it is remembered.
    pub fn find(&self, id: u64) -> Option<JobView> {
        self.known.lock().iter().find(|job| job.id == id).map(|job| job.view())
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    const MADE: MadeTake = MadeTake { session: 1, take: 2, duration_ms: None, size_bytes: 10 };

    async fn outcome(jobs: &Jobs, id: u64) -> JobView {
        for _ in 0..200 {
            if let Some(job) = jobs.find(id).filter(|job| matches!(job.state, JobState::Done(_) | JobState::Failed(_)))
            {
                return job;
            }
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
        panic!("the job does not end");
    }

    #[tokio::test]
    async fn jobs_tell_how_they_went() {
        let jobs = Jobs::default();
        let good = jobs.start(JobKind::Restore, (1, 1), |job| async move {
            job.set_total(10);
            job.set_done(5);
            Ok(JobOutcome::Made(MADE))
        });
        let bad = jobs.start(JobKind::Cut, (1, 2), |_| async { Err(LibraryError::State("no room".to_owned())) });
        let (good, bad) = (outcome(&jobs, good.id).await, outcome(&jobs, bad.id).await);
        assert!(matches!(good.state, JobState::Done(JobOutcome::Made(made)) if made == MADE) && good.progress == 1.0);
        assert!(matches!(bad.state, JobState::Failed(told) if told == "no room"));
        assert_eq!(jobs.all().len(), 2);
    }

    #[tokio::test]
    async fn only_so_many_are_remembered() {
        let jobs = Jobs::default();
        for number in 0..300 {
            let job = jobs.start(JobKind::Restore, (1, number), |_| async { Ok(JobOutcome::Made(MADE)) });
            outcome(&jobs, job.id).await;
        }
        assert_eq!(jobs.all().len(), MAX_JOBS);
    }
}
