//! A bad network: datagrams through it are lost, late, out of order or doubled, as a seed wills it.

use std::cmp::Reverse;
use std::collections::hash_map::Entry;
use std::collections::{BinaryHeap, HashMap};
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::time::{Duration, Instant};

use anyhow::Context;
use parking_lot::Mutex;
use serde::{Deserialize, Serialize};
use tokio::net::UdpSocket;
use tokio::sync::mpsc;
use tokio::task::JoinSet;
use tokio::time::sleep_until;

/// The longest datagram.
const MAX_DATAGRAM: usize = 2048;

/// Datagrams that wait between the tasks of the network.
const QUEUE: usize = 4096;

/// What one direction of the network does to datagrams.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct NetworkFaults {
    /// The share that is lost, each by itself.
    pub loss: f64,
    /// How often a burst begins, and how many datagrams it takes.
    pub burst: (f64, u32),
    /// How long the way takes.
    pub delay: Duration,
    /// Added to that, evenly spread; order is kept.
    pub jitter: Duration,
    /// How often a datagram is held back, and for how long.
    pub reorder: (f64, Duration),
    /// The share that comes twice.
    pub duplicate: f64,
    /// Bytes per second that go through; what comes faster waits half a second, and is lost then.
    pub bandwidth: Option<u64>,
    /// When nothing goes through, from the first datagram on: beginning and end.
    pub outage: Option<(Duration, Duration)>,
}

/// What became of the datagrams of one direction.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct NetworkReport {
    /// Datagrams that came in.
    pub taken: u64,
    /// Datagrams that did not come out.
    pub lost: u64,
    /// Datagrams that came out once more.
    pub doubled: u64,
}

/// A network with a house at its other end.
#[derive(Debug)]
pub struct Network {
    address: SocketAddr,
    faults: Arc<Mutex<(NetworkFaults, NetworkFaults)>>,
    reports: Arc<Mutex<(NetworkReport, NetworkReport)>>,
    tasks: JoinSet<()>,
}

impl Network {
    /// A network that leads to `target`. Faults are those of the way there and of the way back.
    ///
    /// # Errors
    /// If no port can be had.
    pub async fn start(target: SocketAddr, faults: (NetworkFaults, NetworkFaults), seed: u64) -> anyhow::Result<Self> {
        let front = UdpSocket::bind((Ipv4Addr::LOCALHOST, 0)).await.context("a port for the network")?;
        let address = front.local_addr()?;
        let (faults, reports) = (Arc::new(Mutex::new(faults)), Arc::default());
        let mut tasks = JoinSet::new();
        let shared = Shared { faults: faults.clone(), reports: Arc::clone(&reports), seed };
        tasks.spawn(carry(Arc::new(front), target, shared));
        Ok(Self { address, faults, reports, tasks })
    }

    /// Where to send what is to go through it.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Changes what the network does from now on.
    pub fn set_faults(&self, faults: (NetworkFaults, NetworkFaults)) {
        *self.faults.lock() = faults;
    }

    /// What became of the datagrams of both directions so far.
    pub fn reports(&self) -> (NetworkReport, NetworkReport) {
        *self.reports.lock()
    }

    /// Takes nothing any more.
    pub async fn stop(mut self) {
        self.tasks.shutdown().await;
    }
}

#[derive(Clone)]
struct Shared {
    faults: Arc<Mutex<(NetworkFaults, NetworkFaults)>>,
    reports: Arc<Mutex<(NetworkReport, NetworkReport)>>,
    seed: u64,
}

/// Gives each sender a way of its own.
async fn carry(front: Arc<UdpSocket>, target: SocketAddr, shared: Shared) {
    let mut ways: HashMap<SocketAddr, mpsc::Sender<Vec<u8>>> = HashMap::new();
    let mut tasks = JoinSet::new();
    let mut buffer = vec![0; MAX_DATAGRAM];
    loop {
        let Ok((length, from)) = front.recv_from(&mut buffer).await else { continue };
        let seed = shared.seed.wrapping_add(ways.len() as u64);
        let way = match ways.entry(from) {
            Entry::Occupied(known) => known.into_mut(),
            Entry::Vacant(vacant) => {
                let Ok(back) = UdpSocket::bind((Ipv4Addr::LOCALHOST, 0)).await else { continue };
                let (sender, receiver) = mpsc::channel(QUEUE);
                tasks.spawn(way(front.clone(), back, (from, target), receiver, Shared { seed, ..shared.clone() }));
                vacant.insert(sender)
            }
        };
        let _ = way.try_send(buffer[..length].to_vec());
    }
}

async fn way(
    front: Arc<UdpSocket>,
    back: UdpSocket,
    (from, target): (SocketAddr, SocketAddr),
    mut there: mpsc::Receiver<Vec<u8>>,
    shared: Shared,
) {
    let (mut up, mut down) = (Direction::new(shared.seed), Direction::new(shared.seed ^ 0x5555));
    let mut buffer = vec![0; MAX_DATAGRAM];
    loop {
        let next = [up.next_at(), down.next_at()].into_iter().flatten().min();
        let next = next.unwrap_or_else(|| Instant::now() + Duration::from_secs(3600));
        tokio::select! {
            datagram = there.recv() => {
                let Some(datagram) = datagram else { return };
                up.take(Instant::now(), datagram, &shared.faults.lock().0, &mut shared.reports.lock().0);
            }
            received = back.recv_from(&mut buffer) => {
                if let Ok((length, _)) = received {
                    let datagram = buffer[..length].to_vec();
                    down.take(Instant::now(), datagram, &shared.faults.lock().1, &mut shared.reports.lock().1);
                }
            }
            () = sleep_until(next.into()) => {}
        }
        let now = Instant::now();
        while let Some(datagram) = up.due(now) {
            let _ = back.send_to(&datagram, target).await;
        }
        while let Some(datagram) = down.due(now) {
            let _ = front.send_to(&datagram, from).await;
        }
    }
}

/// What is on its way in one direction.
struct Direction {
    dice: Dice,
    began: Option<Instant>,
    burst_left: u32,
    last: Option<Instant>,
    free_at: Option<Instant>,
    order: u64,
    on_the_way: BinaryHeap<Reverse<(Instant, u64, Vec<u8>)>>,
}

impl Direction {
    fn new(seed: u64) -> Self {
        Self {
            dice: Dice::new(seed),
            began: None,
            burst_left: 0,
            last: None,
            free_at: None,
            order: 0,
            on_the_way: BinaryHeap::new(),
        }
    }

    fn take(&mut self, now: Instant, datagram: Vec<u8>, faults: &NetworkFaults, report: &mut NetworkReport) {
        report.taken += 1;
        let Some(entered) = self.passes(now, datagram.len(), faults) else {
            report.lost += 1;
            return;
        };
        let in_order = entered + faults.delay + faults.jitter.mul_f64(self.dice.fraction());
        let in_order = self.last.map_or(in_order, |last| last.max(in_order));
        let at = if self.dice.fraction() < faults.reorder.0 {
            in_order + faults.reorder.1
        } else {
            self.last = Some(in_order);
            in_order
        };
        if self.dice.fraction() < faults.duplicate {
            report.doubled += 1;
            self.put(at, datagram.clone());
        }
        self.put(at, datagram);
    }

    /// When a datagram gets onto the line; None if it is lost.
    fn passes(&mut self, now: Instant, length: usize, faults: &NetworkFaults) -> Option<Instant> {
        let age = now - *self.began.get_or_insert(now);
        if faults.outage.is_some_and(|(begin, end)| (begin..end).contains(&age)) {
            return None;
        }
        if self.dice.fraction() < faults.burst.0 {
            self.burst_left = faults.burst.1;
        }
        let in_burst = self.burst_left > 0;
        self.burst_left = self.burst_left.saturating_sub(1);
        if in_burst || self.dice.fraction() < faults.loss {
            return None;
        }
        let Some(bandwidth) = faults.bandwidth else { return Some(now) };
        let begins = self.free_at.map_or(now, |at| at.max(now));
        if begins - now > Duration::from_millis(500) {
            return None;
        }
        let ends = begins + Duration::from_secs_f64(length as f64 / bandwidth.max(1) as f64);
        self.free_at = Some(ends);
        Some(ends)
    }

    fn put(&mut self, at: Instant, datagram: Vec<u8>) {
        self.order += 1;
        self.on_the_way.push(Reverse((at, self.order, datagram)));
    }

    fn next_at(&self) -> Option<Instant> {
        self.on_the_way.peek().map(|Reverse((at, _, _))| *at)
    }

    fn due(&mut self, now: Instant) -> Option<Vec<u8>> {
        if self.next_at()? > now {
            return None;
        }
        self.on_the_way.pop().map(|Reverse((_, _, datagram))| datagram)
    }
}

/// Reproducible numbers (xorshift64*).
struct Dice(u64);

impl Dice {
    fn new(seed: u64) -> Self {
        Self(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1)
    }

    /// From 0 to 1.
    fn fraction(&mut self) -> f64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        (self.0.wrapping_mul(0x2545_f491_4f6c_dd1d) >> 11) as f64 / (1_u64 << 53) as f64
    }
}
