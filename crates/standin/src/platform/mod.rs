//! A platform that takes streams over RTMP or SRT, remembers every payload, and can misbehave.

mod connection;
mod listener;

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use parking_lot::Mutex;
use rustls::ServerConfig;
use serde::{Deserialize, Serialize};
use tokio::net::{TcpListener, TcpSocket};
use tokio::sync::watch;
use tokio::task::JoinHandle;

use crate::Mark;
use crate::encoder::SrtOptions;

/// Bytes that wait to be read by a platform that reads slowly.
const NARROW_BUFFER: u32 = 32 * 1024;

/// What the platform does wrong. Faults of time begin with the first payload of a connection.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PlatformFault {
    /// Every publisher is refused.
    Refuse,
    /// The first connection is reset after so long; later ones are served well.
    ResetOnceAfter(Duration),
    /// Every connection is reset after so long.
    ResetAfter(Duration),
    /// Nothing is read after so long.
    StallAfter(Duration),
    /// Connections are taken, and not a word is answered.
    SayNothing,
    /// No more than so many bytes are read in a second.
    ReadSlowly(u32),
    /// Connections whose handshake has no digest are closed.
    WantsDigest,
    /// Publishers are asked to connect anew after so long, once.
    AskToReconnectOnceAfter(Duration),
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
    /// Whether it speaks Enhanced RTMP.
    pub is_enhanced: bool,
    /// If set, every publisher is sent to this address.
    pub redirect: Option<String>,
    /// Speaks TLS only, with this certificate.
    pub tls: Option<Arc<ServerConfig>>,
    /// Takes SRT instead, with the key as stream id. Of the faults it knows to refuse and to break
    /// connections.
    pub srt: Option<SrtOptions>,
}

impl PlatformOptions {
    /// A platform on a free port of loopback that does everything right.
    pub fn new(key: impl Into<String>) -> Self {
        Self {
            listen: SocketAddr::from(([127, 0, 0, 1], 0)),
            key: key.into(),
            fault: None,
            is_enhanced: true,
            redirect: None,
            tls: None,
            srt: None,
        }
    }
}

/// What came over one connection.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct ConnectionReport {
    /// Everything that was received, in order.
    pub received: Vec<Mark>,
    /// Bit rate of the pictures that the metadata announced.
    #[serde(default)]
    pub announced_video_bps: Option<f64>,
    /// Width and height that it announced.
    #[serde(default)]
    pub announced_size: Option<(u32, u32)>,
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
    scheme: &'static str,
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
        let report = Arc::new(Mutex::new(PlatformReport::default()));
        let (sender, changed) = watch::channel(0);
        if let Some(srt) = &options.srt {
            let (address, task) = listener::start(&options, srt, report.clone(), sender)?;
            return Ok(Self { address, scheme: "srt", report, changed, task });
        }
        let listener = match options.fault {
            Some(PlatformFault::ReadSlowly(_)) => listen_narrowly(options.listen)?,
            _ => TcpListener::bind(options.listen).await?,
        };
        let address = listener.local_addr()?;
        let scheme = if options.tls.is_some() { "rtmps" } else { "rtmp" };
        let task = tokio::spawn(connection::accept_all(listener, options, report.clone(), sender));
        Ok(Self { address, scheme, report, changed, task })
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// The address for a destination.
    pub fn url(&self) -> String {
        match self.scheme {
            "srt" => format!("srt://{}", self.address),
            "rtmps" => format!("rtmps://localhost:{}/live", self.address.port()),
            scheme => format!("{scheme}://{}/live", self.address),
        }
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

/// Listens with little room for what is not read yet. On loopback room is else announced 64 KiB at a
/// time, and a slow reader looks like none for many seconds.
fn listen_narrowly(address: SocketAddr) -> std::io::Result<TcpListener> {
    let socket = if address.is_ipv4() { TcpSocket::new_v4()? } else { TcpSocket::new_v6()? };
    socket.set_recv_buffer_size(NARROW_BUFFER)?;
    socket.bind(address)?;
    socket.listen(64)
}

impl Drop for Platform {
    fn drop(&mut self) {
        self.task.abort();
    }
}
