//! Platforms that do it wrong, each in its own way.

use std::time::{Duration, Instant};

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::task::JoinSet;
use tokio::time::sleep;
use waverant_rtmp::{ServerConfig, ServerConnection, ServerEvent};

/// What a platform does wrong.
#[derive(Clone, Copy, Debug)]
enum Fault {
    /// It closes every connection at once.
    Closes,
    /// It takes the stream and reads no more.
    Stalls,
    /// It takes the stream and breaks off after a second.
    Flaps,
    /// It says nothing.
    Silent,
    /// It reads 100 kbit/s.
    Slow,
}

const FAULTS: [Fault; 5] = [Fault::Closes, Fault::Stalls, Fault::Flaps, Fault::Silent, Fault::Slow];

/// Serves badly, in the way of platform `place`, until it is dropped.
pub(crate) async fn serve(place: usize, listener: TcpListener) {
    let fault = FAULTS[place % FAULTS.len()];
    let mut connections = JoinSet::new();
    while let Ok((stream, _)) = listener.accept().await {
        connections.spawn(misbehave(fault, stream));
        while connections.try_join_next().is_some() {}
    }
}

async fn misbehave(fault: Fault, mut stream: TcpStream) {
    let pause = match fault {
        Fault::Closes => return,
        Fault::Silent => return std::future::pending().await,
        Fault::Slow => Duration::from_millis(100),
        Fault::Stalls | Fault::Flaps => Duration::ZERO,
    };
    let mut server = ServerConnection::new(ServerConfig::default(), Instant::now());
    let mut buffer = vec![0; if pause.is_zero() { 16 * 1024 } else { 1_250 }];
    let mut taken: Option<Instant> = None;
    loop {
        while let Some(piece) = server.poll_transmit() {
            if stream.write_all(&piece).await.is_err() {
                return;
            }
        }
        match (fault, taken) {
            (Fault::Stalls, Some(_)) => return std::future::pending().await,
            (Fault::Flaps, Some(since)) if since.elapsed() > Duration::from_secs(1) => return,
            (Fault::Slow, Some(_)) => sleep(pause).await,
            _ => {}
        }
        let Ok(count @ 1..) = stream.read(&mut buffer).await else { return };
        if server.handle_input(Instant::now(), &buffer[..count]).is_err() {
            return;
        }
        while let Some(event) = server.poll_event() {
            if let ServerEvent::PublishRequested(request) = event {
                taken = Some(Instant::now());
                let _ = server.accept_publish(Instant::now(), request.stream);
            }
        }
    }
}
