//! A platform that takes streams over RTMP, remembers every payload, and can misbehave.

mod connection;

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use parking_lot::Mutex;
use serde::{Deserialize, Serialize};
use tokio::net::TcpListener;
use tokio::sync::watch;
use tokio::task::JoinHandle;

use crate::Mark;

/// What the platform does wrong. Faults of time begin with the first payload of a connection.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PlatformFault {
    /// Every publisher is refused.
    Refuse,
    /// The first connection is reset after so long; later ones are served well.
    ResetOnceAfter(Duration),
    /// Nothing is read after so long.
    StallAfter(Duration),
    /// No more than so many bytes are read in a second.
    ReadSlowly(u32),
}

/// What the platform is to do.
#[derive(Clone, Debug)]
pub struct PlatformOptions {
    /// Where to listen; port 0 takes a free one.
    pub listen: SocketAddr,
    /// The only key that is taken.
    pub key: String,
    /// What to do wrong.
    pub fault: Option<PlatformFault>,
}

/// What came over one connection.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct ConnectionReport {
    /// Everything that was received, in order.
    pub received: Vec<Mark>,
    /// Why the publisher was refused.
    pub refused: Option<String>,
    /// What was wrong with what came.
    pub fault: Option<String>,
    /// True if the publisher ended the stream in order.
    pub was_ended: bool,
}

/// What the platform saw.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct PlatformReport {
    /// The connections in the order in which they came.
    pub connections: Vec<ConnectionReport>,
}

/// A running platform. Stops when it is dropped.
#[derive(Debug)]
pub struct Platform {
    address: SocketAddr,
    report: Arc<Mutex<PlatformReport>>,
    changed: watch::Receiver<u64>,
    task: JoinHandle<()>,
}

impl Platform {
    /// Starts listening.
    ///
    /// # Errors
    /// If the address cannot be bound.
    pub async fn start(options: PlatformOptions) -> std::io::Result<Self> {
        let listener = TcpListener::bind(options.listen).await?;
        let address = listener.local_addr()?;
        let report = Arc::new(Mutex::new(PlatformReport::default()));
        let (sender, changed) = watch::channel(0);
        let task = tokio::spawn(connection::accept_all(listener, options, report.clone(), sender));
        Ok(Self { address, report, changed, task })
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// The address for a destination.
    pub fn url(&self) -> String {
        format!("rtmp://{}/live", self.address)
    }

    /// What was seen so far.
    pub fn report(&self) -> PlatformReport {
        self.report.lock().clone()
    }

    /// Waits until what was seen satisfies `condition`; false if that takes longer than `limit`.
    pub async fn wait_for(&self, limit: Duration, condition: impl Fn(&PlatformReport) -> bool) -> bool {
        let mut changed = self.changed.clone();
        let satisfied = async {
            while !condition(&self.report.lock()) {
                if changed.changed().await.is_err() {
                    return false;
                }
            }
            true
        };
        tokio::time::timeout(limit, satisfied).await.unwrap_or(false)
    }
}

impl Drop for Platform {
    fn drop(&mut self) {
        self.task.abort();
    }
}
