use std::collections::VecDeque;
use std::future::Future;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use parking_lot::Mutex;
use serde::Serialize;
use time::OffsetDateTime;
use tokio::sync::Semaphore;
use utoipa::ToSchema;

/// Jobs that are remembered; the oldest that is done goes first.
const MAX_JOBS: usize = 200;

/// Jobs that work at the same time: they share one disk.
const AT_ONCE: usize = 2;

/// Long work on takes: seen while it goes on, and for a while after.
#[derive(Debug)]
pub(crate) struct Jobs {
    last_id: AtomicU64,
    known: Mutex<VecDeque<Arc<Job>>>,
    turns: Arc<Semaphore>,
}

impl Default for Jobs {
    fn default() -> Self {
        Self { last_id: AtomicU64::new(0), known: Mutex::default(), turns: Arc::new(Semaphore::new(AT_ONCE)) }
    }
}

/// One piece of long work.
#[derive(Debug)]
pub(crate) struct Job {
    id: u64,
    kind: &'static str,
    session: u64,
    take: u32,
    began_at: OffsetDateTime,
    total_bytes: AtomicU64,
    done_bytes: AtomicU64,
    state: Mutex<State>,
}

#[derive(Debug)]
enum State {
    Waiting,
    Running,
    Done(serde_json::Value),
    Failed(String),
}

/// A job as calls answer it.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct JobReport {
    /// The job's number.
    id: u64,
    /// `check`, `cut`, `restore` or `digest`.
    kind: &'static str,
    /// The take's session.
    session: u64,
    /// The take's number.
    take: u32,
    /// When it was asked for.
    #[serde(with = "time::serde::rfc3339")]
    began_at: OffsetDateTime,
    /// `waiting`, `running`, `done` or `failed`.
    state: &'static str,
    /// How much of the work is done, from 0 to 1.
    progress: f64,
    /// Why it failed.
    error: Option<String>,
    /// What came of it; its shape depends on the kind.
    #[schema(value_type = Object)]
    result: Option<serde_json::Value>,
}

impl Job {
    pub(crate) fn set_total(&self, bytes: u64) {
        self.total_bytes.store(bytes, Ordering::Relaxed);
    }

    pub(crate) fn set_done(&self, bytes: u64) {
        self.done_bytes.store(bytes, Ordering::Relaxed);
    }

    pub(crate) fn report(&self) -> JobReport {
        let (total, done) = (self.total_bytes.load(Ordering::Relaxed), self.done_bytes.load(Ordering::Relaxed));
        let state = self.state.lock();
        let (name, error, result) = match &*state {
            State::Waiting => ("waiting", None, None),
            State::Running => ("running", None, None),
            State::Done(result) => ("done", None, Some(result.clone())),
            State::Failed(error) => ("failed", Some(error.clone()), None),
        };
        #[expect(clippy::cast_precision_loss, reason = "a share")]
        let share = if total == 0 { 0.0 } else { (done as f64 / total as f64).min(1.0) };
        JobReport {
            id: self.id,
            kind: self.kind,
            session: self.session,
            take: self.take,
            began_at: self.began_at,
            state: name,
            progress: if name == "done" { 1.0 } else { share },
            error,
            result,
        }
    }

    fn is_over(&self) -> bool {
        matches!(*self.state.lock(), State::Done(_) | State::Failed(_))
    }
}

impl Jobs {
    /// Begins a job when its turn comes; what it answers is its result.
    pub(crate) fn start<F>(
        &self,
        kind: &'static str,
        (session, take): (u64, u32),
        work: impl FnOnce(Arc<Job>) -> F + Send + 'static,
    ) -> Arc<Job>
    where
        F: Future<Output = Result<serde_json::Value, String>> + Send,
    {
        let job = Arc::new(Job {
            id: self.last_id.fetch_add(1, Ordering::Relaxed) + 1,
            kind,
            session,
            take,
            began_at: OffsetDateTime::now_utc(),
            total_bytes: AtomicU64::new(0),
            done_bytes: AtomicU64::new(0),
            state: Mutex::new(State::Waiting),
        });
        self.remember(job.clone());
        let (turns, running) = (self.turns.clone(), job.clone());
        tokio::spawn(async move {
            let Ok(_turn) = turns.acquire_owned().await else { return };
            *running.state.lock() = State::Running;
            let outcome = work(running.clone()).await;
            if let Err(error) = &outcome {
                tracing::warn!(kind, session, take, error, "a job failed");
            }
            *running.state.lock() = outcome.map_or_else(State::Failed, State::Done);
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
    pub(crate) fn is_full(&self) -> bool {
        let known = self.known.lock();
        known.len() >= MAX_JOBS && !known.iter().any(|job| job.is_over())
    }

    /// The jobs, the newest first.
    pub(crate) fn all(&self) -> Vec<JobReport> {
        self.known.lock().iter().rev().map(|job| job.report()).collect()
    }

    pub(crate) fn find(&self, id: u64) -> Option<JobReport> {
        self.known.lock().iter().find(|job| job.id == id).map(|job| job.report())
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    async fn outcome(jobs: &Jobs, id: u64) -> JobReport {
        for _ in 0..200 {
            if let Some(report) = jobs.find(id).filter(|job| job.state == "done" || job.state == "failed") {
                return report;
            }
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
        panic!("the job does not end");
    }

    #[tokio::test]
    async fn jobs_tell_how_they_went() {
        let jobs = Jobs::default();
        let good = jobs.start("check", (1, 1), |job| async move {
            job.set_total(10);
            job.set_done(5);
            Ok(serde_json::json!({"is_good": true}))
        });
        let bad = jobs.start("cut", (1, 2), |_| async { Err("no room".to_owned()) });
        let (good, bad) = (outcome(&jobs, good.id).await, outcome(&jobs, bad.id).await);
        assert_eq!((good.state, good.progress, good.result.unwrap()["is_good"].as_bool()), ("done", 1.0, Some(true)));
        assert_eq!((bad.state, bad.error.as_deref()), ("failed", Some("no room")));
        assert_eq!(jobs.all().len(), 2);
    }

    #[tokio::test]
    async fn only_so_many_are_remembered() {
        let jobs = Jobs::default();
        for number in 0..300 {
            let job = jobs.start("check", (1, number), |_| async { Ok(serde_json::Value::Null) });
            outcome(&jobs, job.id).await;
        }
        assert_eq!(jobs.all().len(), MAX_JOBS);
    }
}
