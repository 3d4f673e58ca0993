use std::io::{Error, ErrorKind, Result};
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use tokio::io::AsyncReadExt;
use tokio::net::TcpStream;
use tokio::sync::Semaphore;
use tokio::time::timeout;
use waverant_relay::{AddressRange, Announced, announced};

/// A proxy says at once who calls.
const PATIENCE: Duration = Duration::from_secs(5);

/// Connections of proxies that have not said it yet; further ones are closed.
const MOST_SILENT: usize = 512;

/// Proxies that say, before all else on each connection, who calls through it. Who is none of them is taken as he is: it
/// is never guessed from what comes.
#[derive(Clone, Debug)]
pub struct Announcers {
    ranges: Arc<[AddressRange]>,
    silent: Arc<Semaphore>,
}

/// Who calls.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Caller {
    /// From where.
    pub address: SocketAddr,
    /// True if over TLS to the proxy.
    pub is_secure: bool,
}

impl Announcers {
    /// Those at these addresses.
    pub fn new(ranges: Vec<AddressRange>) -> Self {
        Self { ranges: ranges.into(), silent: Arc::new(Semaphore::new(MOST_SILENT)) }
    }

    /// True if `peer` is one.
    pub fn has(&self, peer: IpAddr) -> bool {
        self.ranges.iter().any(|range| range.contains(peer))
    }

    /// Reads who calls, if `peer` is one of them; not a byte of what follows.
    ///
    /// # Errors
    /// What the peer said instead, in time or not; the connection is of no use then.
    pub async fn caller(&self, stream: &mut TcpStream, peer: SocketAddr) -> Result<Caller> {
        if !self.has(peer.ip()) {
            return Ok(Caller { address: peer, is_secure: false });
        }
        let _silent = self.silent.try_acquire().map_err(|_| Error::other("too many proxies say nothing"))?;
        let late = |_| Error::new(ErrorKind::TimedOut, "the PROXY protocol was expected, and nothing came in time");
        timeout(PATIENCE, read(stream, peer)).await.map_err(late)?
    }
}

async fn read(stream: &mut TcpStream, peer: SocketAddr) -> Result<Caller> {
    let mut bytes = Vec::new();
    loop {
        match announced(&bytes).map_err(|error| Error::new(ErrorKind::InvalidData, error))? {
            Announced::Needs(all) => {
                let have = bytes.len();
                bytes.resize(all, 0);
                stream.read_exact(&mut bytes[have..]).await?;
            }
            Announced::Said { caller, is_secure } => {
                return Ok(Caller { address: caller.unwrap_or(peer), is_secure });
            }
        }
    }
}
