use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, Weak};
use std::thread;
use std::time::Duration;

use parking_lot::{Condvar, Mutex};
use tokio::sync::{OwnedSemaphorePermit, Semaphore, oneshot};

use crate::{Clip, EncodeError, Hand, WorkFailed, Workplace};

/// Pieces of work at the same time.
const THREADS: usize = 2;

/// Memory that all work that was begun may take, in units of [`UNIT`].
const BUDGET: u32 = 192;

/// The budget is counted in MiB.
const UNIT: usize = 1024 * 1024;

/// A thread without work ends after so long, and gives its memory back.
const IDLE: Duration = Duration::from_secs(5);

/// How much less of the processor this work gets than shows, on Linux's scale up to 19.
const NICENESS: i32 = 10;

/// What a pixel costs while it is drawn, converted and encoded, in bytes.
const BYTES_PER_PIXEL: u64 = 16;

type Job = Box<dyn FnOnce(&mut Hand) + Send>;

/// Threads for work on pictures: few, with less of the processor than shows have, and with a budget of memory, so
/// that neither many shows nor a crowd that wants stills costs more than that. They are there only while there is
/// work.
#[derive(Clone, Debug)]
pub struct CodecPool {
    shared: Arc<Shared>,
    budget: Arc<Semaphore>,
    /// Holding pictures that somebody has, by size and rate: they are the same for all shows.
    holding: Arc<tokio::sync::Mutex<HashMap<HoldingKey, Weak<Clip>>>>,
}

/// Width, height, and the bits of the rate.
type HoldingKey = (u32, u32, u64);

#[derive(Default)]
struct Shared {
    workplace: Workplace,
    queue: Mutex<Queue>,
    news: Condvar,
}

impl std::fmt::Debug for Shared {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.write_str("Shared(…)")
    }
}

#[derive(Default)]
struct Queue {
    jobs: VecDeque<(Job, OwnedSemaphorePermit)>,
    threads: usize,
    idle: usize,
}

impl Default for CodecPool {
    fn default() -> Self {
        Self::new(Workplace::Here)
    }
}

impl CodecPool {
    /// A pool that has native code run there.
    pub fn new(workplace: Workplace) -> Self {
        let shared = Arc::new(Shared { workplace, ..Shared::default() });
        Self { shared, budget: Arc::new(Semaphore::new(BUDGET as usize)), holding: Arc::default() }
    }

    /// Does work that takes about `bytes` of memory, in its turn; what is above the budget waits for all others.
    ///
    /// # Errors
    /// [`WorkFailed`] if the work panics, or no thread can be had for it.
    ///
    /// # Cancel safety
    /// Work that was not begun is left out.
    pub async fn run<T: Send + 'static>(
        &self,
        bytes: u64,
        work: impl FnOnce(&mut Hand) -> T + Send + 'static,
    ) -> Result<T, WorkFailed> {
        let units = u32::try_from(bytes / UNIT as u64).unwrap_or(u32::MAX).clamp(1, BUDGET);
        let permit = self.budget.clone().acquire_many_owned(units).await.map_err(|_| WorkFailed)?;
        let (sender, receiver) = oneshot::channel();
        let job = move |hand: &mut Hand| {
            if !sender.is_closed() {
                let _ = sender.send(work(hand));
            }
        };
        self.queue(Box::new(job), permit)?;
        receiver.await.map_err(|_| WorkFailed)
    }

    /// The holding picture in this size and rate. It is drawn once for all who have it, and forgotten with the last.
    ///
    /// # Errors
    /// [`EncodeError`] if the size cannot be encoded, or the encoder fails.
    pub async fn holding_picture(&self, width: u32, height: u32, frame_rate: f64) -> Result<Arc<Clip>, EncodeError> {
        let key = (width, height, frame_rate.to_bits());
        // Held while it is drawn: who wants the same waits for it.
        let mut known = self.holding.lock().await;
        if let Some(clip) = known.get(&key).and_then(Weak::upgrade) {
            return Ok(clip);
        }
        known.retain(|_, clip| clip.strong_count() > 0);
        let bytes = u64::from(width) * u64::from(height) * BYTES_PER_PIXEL;
        let drawn = self.run(bytes, move |hand| hand.holding_picture(width, height, frame_rate)).await;
        let clip = Arc::new(drawn??);
        known.insert(key, Arc::downgrade(&clip));
        Ok(clip)
    }

    fn queue(&self, job: Job, permit: OwnedSemaphorePermit) -> Result<(), WorkFailed> {
        let mut queue = self.shared.queue.lock();
        queue.jobs.push_back((job, permit));
        if queue.idle < queue.jobs.len() && queue.threads < THREADS {
            queue.threads += 1;
            let shared = self.shared.clone();
            let begun = thread::Builder::new().name("codec".to_owned()).spawn(move || work_off(&shared));
            if let Err(error) = begun {
                queue.threads -= 1;
                tracing::error!(%error, "there is no thread for work on pictures");
                if queue.threads == 0 {
                    queue.jobs.clear();
                    return Err(WorkFailed);
                }
            }
        }
        drop(queue);
        self.shared.news.notify_one();
        Ok(())
    }
}

/// Takes the thread off the count, also when its work panics.
struct Counted<'a>(&'a Shared);

impl Drop for Counted<'_> {
    fn drop(&mut self) {
        self.0.queue.lock().threads -= 1;
    }
}

fn work_off(shared: &Shared) {
    let _counted = Counted(shared);
    // On Linux a thread has a niceness of its own.
    let _ = rustix::process::setpriority_process(Some(rustix::thread::gettid()), NICENESS);
    let mut hand = Hand::new(shared.workplace.clone());
    loop {
        let mut queue = shared.queue.lock();
        while queue.jobs.is_empty() {
            queue.idle += 1;
            let waited = shared.news.wait_for(&mut queue, IDLE);
            queue.idle -= 1;
            if waited.timed_out() && queue.jobs.is_empty() {
                return;
            }
        }
        let Some((job, permit)) = queue.jobs.pop_front() else { continue };
        drop(queue);
        // Work that panics is told to who waits for it; the thread goes on.
        let _ = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| job(&mut hand)));
        drop(permit);
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicUsize, Ordering};

    use super::*;

    #[tokio::test]
    async fn work_is_done_a_few_pieces_at_a_time() {
        let (pool, now, most) = (CodecPool::default(), Arc::new(AtomicUsize::new(0)), Arc::new(AtomicUsize::new(0)));
        let works = (0..20).map(|number| {
            let (pool, now, most) = (pool.clone(), now.clone(), most.clone());
            tokio::spawn(async move {
                let work = move |_: &mut Hand| {
                    most.fetch_max(now.fetch_add(1, Ordering::SeqCst) + 1, Ordering::SeqCst);
                    thread::sleep(Duration::from_millis(5));
                    now.fetch_sub(1, Ordering::SeqCst);
                    number
                };
                pool.run(1, work).await
            })
        });
        for (number, work) in works.collect::<Vec<_>>().into_iter().enumerate() {
            assert_eq!(work.await.unwrap(), Ok(number));
        }
        assert!((1..=THREADS).contains(&most.load(Ordering::SeqCst)));
    }

    #[tokio::test]
    async fn work_that_takes_all_memory_is_alone() {
        let (pool, running) = (CodecPool::default(), Arc::new(AtomicUsize::new(0)));
        let alone = |running: Arc<AtomicUsize>| {
            move |_: &mut Hand| {
                let others = running.fetch_add(1, Ordering::SeqCst);
                thread::sleep(Duration::from_millis(20));
                running.fetch_sub(1, Ordering::SeqCst);
                others
            }
        };
        let (one, other) = (pool.run(1 << 40, alone(running.clone())), pool.run(1 << 40, alone(running.clone())));
        assert_eq!(tokio::join!(one, other), (Ok(0), Ok(0)));
    }

    #[tokio::test]
    async fn work_that_panics_costs_nobody_else() {
        let pool = CodecPool::default();
        for _ in 0..3 {
            assert_eq!(pool.run::<()>(1, |_| panic!("a fault of ours")).await, Err(WorkFailed));
        }
        // Takes the whole budget: all of it was given back.
        assert_eq!(pool.run(1 << 40, |_| 7).await, Ok(7));
    }

    #[tokio::test]
    async fn a_holding_picture_is_drawn_once_and_forgotten_with_the_last_who_has_it() {
        let pool = CodecPool::default();
        let (one, other) = tokio::join!(pool.holding_picture(320, 180, 25.0), pool.holding_picture(320, 180, 25.0));
        let (one, other) = (one.unwrap(), other.unwrap());
        assert!(Arc::ptr_eq(&one, &other));
        assert!(!Arc::ptr_eq(&one, &pool.holding_picture(320, 180, 30.0).await.unwrap()));
        drop((one, other));
        pool.holding_picture(64, 64, 25.0).await.unwrap();
        assert_eq!(pool.holding.lock().await.len(), 1);
        assert!(matches!(pool.holding_picture(63, 64, 25.0).await, Err(EncodeError::Size { .. })));
    }
}
