//! A platform on loopback that takes everything and keeps nothing.

use std::io;
use std::net::{Ipv4Addr, SocketAddr};
use std::time::{Duration, Instant};

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::task::JoinHandle;
use tokio::time::timeout;
use waverant_rtmp::{ServerConfig, ServerConnection, ServerEvent};

/// How long the last connection may take to end.
const FAREWELL: Duration = Duration::from_secs(5);

#[derive(Debug)]
pub(super) struct Sink {
    address: SocketAddr,
    task: JoinHandle<()>,
}

impl Sink {
    /// Listens on a free port of loopback.
    pub(super) async fn open() -> io::Result<Self> {
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await?;
        let address = listener.local_addr()?;
        let task = tokio::spawn(async move {
            // One after the other: there is one leg.
            while let Ok((stream, _)) = listener.accept().await {
                if let Err(error) = take(stream).await {
                    tracing::debug!(%error, "the built-in sink lost its leg");
                }
            }
        });
        Ok(Self { address, task })
    }

    pub(super) fn address(&self) -> SocketAddr {
        self.address
    }

    /// Lets the leg say goodbye, then ends.
    pub(super) async fn close(mut self) {
        let _ = timeout(FAREWELL, &mut self.task).await;
        self.task.abort();
    }
}

async fn take(mut stream: TcpStream) -> io::Result<()> {
    let mut server = ServerConnection::new(ServerConfig::default(), Instant::now());
    let mut buffer = vec![0; 32 * 1024];
    loop {
        while let Some(piece) = server.poll_transmit() {
            stream.write_all(&piece).await?;
        }
        if server.is_closing() {
            return Ok(());
        }
        let count = stream.read(&mut buffer).await?;
        if count == 0 {
            return Ok(());
        }
        server.handle_input(Instant::now(), buffer.get(..count).unwrap_or_default()).map_err(io::Error::other)?;
        while let Some(event) = server.poll_event() {
            if let ServerEvent::PublishRequested(request) = event {
                server.accept_publish(Instant::now(), request.stream).map_err(io::Error::other)?;
            }
        }
    }
}
