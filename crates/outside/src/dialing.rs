//! Whether somebody answers at a door.

use std::io;
use std::net::SocketAddr;
use std::time::{Duration, Instant};

use tokio::net::{TcpStream, UdpSocket};
use tokio::time::timeout;
use waverant_model::{Transport, TryOutcome};
use waverant_srt::{Caller, Config, Randomness};

use crate::asking::FoundDoor;

/// Who does not answer in this time is silent.
const WITHIN: Duration = Duration::from_secs(5);

/// How often a datagram is sent that nobody answers.
const AGAIN: Duration = Duration::from_millis(500);

/// Calls a door, and hangs up.
pub(crate) async fn dial(transport: Transport, door: SocketAddr) -> FoundDoor {
    let begun = Instant::now();
    let called = async {
        match transport {
            Transport::Tcp => TcpStream::connect(door).await.map(drop),
            Transport::Udp => greet(door).await,
        }
    };
    let outcome = match timeout(WITHIN, called).await {
        Ok(Ok(())) => TryOutcome::Answered,
        Ok(Err(error)) => match error.kind() {
            io::ErrorKind::ConnectionRefused | io::ErrorKind::ConnectionReset => TryOutcome::Refused,
            io::ErrorKind::HostUnreachable | io::ErrorKind::NetworkUnreachable | io::ErrorKind::AddrNotAvailable => {
                TryOutcome::Unreachable
            }
            _ => TryOutcome::Silent,
        },
        Err(_) => TryOutcome::Silent,
    };
    FoundDoor { outcome, after_ms: u64::try_from(begun.elapsed().as_millis()).unwrap_or(u64::MAX) }
}

/// Begins an SRT handshake; its first answer is enough.
async fn greet(door: SocketAddr) -> io::Result<()> {
    let socket = UdpSocket::bind(if door.is_ipv6() { "[::]:0" } else { "0.0.0.0:0" }).await?;
    socket.connect(door).await?;
    let local_id = rand::random::<u32>() | 1;
    let random = Randomness::new(rand::random());
    let mut caller = Caller::new(Config::default(), door, None, local_id, random, Instant::now());
    let mut answer = [0; 1500];
    loop {
        if let Some(greeting) = caller.poll_transmit(Instant::now()) {
            socket.send(&greeting).await?;
        }
        match timeout(AGAIN, socket.recv(&mut answer)).await {
            Ok(received) => {
                // Turned down is an answer, too; anything else than a handshake is somebody else's.
                let taken = caller.handle_datagram(Instant::now(), &answer[..received?]);
                if taken.is_err() || caller.was_answered() {
                    return Ok(());
                }
            }
            Err(_) => continue,
        }
    }
}
