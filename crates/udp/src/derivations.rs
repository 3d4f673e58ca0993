use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::thread;

use parking_lot::{Condvar, Mutex};
use tokio::sync::mpsc;
use waverant_srt::{Derivation, DerivedKey, Request};

use crate::doorkeeper::Welcome;
use crate::fair_queue::FairQueue;

/// Callers and connections whose keys wait to be derived. At two milliseconds each, the last one
/// waits half a second.
const CAPACITY: usize = 256;

/// How many of them may be of one address.
const PER_ADDRESS: usize = 4;

/// How much less of the processor derivations get than shows, on Linux's scale up to 19.
const NICENESS: i32 = 10;

/// For whom a key is derived.
#[derive(Debug)]
pub(crate) enum Purpose<P> {
    /// A caller that was judged; how its connection is to behave.
    Caller(Box<Request>, Box<Welcome<P>>),
    /// A connection, by our number, whose peer made a new key.
    Connection(u32),
}

/// What names a derivation while it waits: the peer, and its number or ours.
type Key = (SocketAddr, u32);

#[derive(Debug)]
struct Work<P> {
    derivation: Derivation,
    purpose: Purpose<P>,
}

#[derive(Debug)]
struct Shared<P> {
    queue: Mutex<(FairQueue<Key, Work<P>>, bool)>,
    news: Condvar,
}

/// Derives keys on a thread of its own, so that no passphrase, right or wrong, holds up the task
/// that drives connections.
#[derive(Debug)]
pub(crate) struct Derivations<P> {
    shared: Arc<Shared<P>>,
    done: mpsc::Receiver<(Purpose<P>, DerivedKey)>,
}

impl<P: Send + 'static> Derivations<P> {
    pub(crate) fn start() -> std::io::Result<Self> {
        let queue = FairQueue::new(CAPACITY, PER_ADDRESS);
        let shared = Arc::new(Shared { queue: Mutex::new((queue, false)), news: Condvar::new() });
        let (sender, done) = mpsc::channel(CAPACITY);
        let worker = shared.clone();
        thread::Builder::new().name("srt-keys".to_owned()).spawn(move || derive_all(&worker, &sender))?;
        Ok(Self { shared, done })
    }

    /// Queues the work for `peer`. False if there is no room: the peer repeats itself.
    pub(crate) fn queue(
        &self,
        rank: u8,
        from: IpAddr,
        key: Key,
        derivation: Derivation,
        purpose: Purpose<P>,
    ) -> Refused {
        let mut queue = self.shared.queue.lock();
        let refused = queue.0.push(rank, from, key, Work { derivation, purpose });
        drop(queue);
        self.shared.news.notify_one();
        Refused(refused.and_then(|(_, work)| match work.purpose {
            Purpose::Connection(id) => Some(id),
            Purpose::Caller(..) => None,
        }))
    }

    /// True if this caller waits already.
    pub(crate) fn is_waiting(&self, key: &Key) -> bool {
        self.shared.queue.lock().0.contains(key)
    }

    /// The next result.
    ///
    /// # Cancel safety
    /// Nothing is lost.
    pub(crate) async fn next(&mut self) -> Option<(Purpose<P>, DerivedKey)> {
        self.done.recv().await
    }

    /// A result that is there already.
    pub(crate) fn try_next(&mut self) -> Option<(Purpose<P>, DerivedKey)> {
        self.done.try_recv().ok()
    }
}

/// The connection, if one, whose key is not derived: no place, or it made room for another.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Refused(pub(crate) Option<u32>);

impl<P> Drop for Derivations<P> {
    fn drop(&mut self) {
        self.shared.queue.lock().1 = true;
        self.shared.news.notify_one();
    }
}

fn derive_all<P>(shared: &Shared<P>, done: &mpsc::Sender<(Purpose<P>, DerivedKey)>) {
    // On Linux a thread has a niceness of its own.
    let _ = rustix::process::setpriority_process(Some(rustix::thread::gettid()), NICENESS);
    loop {
        let mut queue = shared.queue.lock();
        let work = loop {
            if queue.1 {
                return;
            }
            match queue.0.pop() {
                Some((_, work)) => break work,
                None => shared.news.wait(&mut queue),
            }
        };
        drop(queue);
        let derived = work.derivation.run();
        if done.blocking_send((work.purpose, derived)).is_err() {
            return;
        }
    }
}
