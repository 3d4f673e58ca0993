//! A crowd of connections that mean no good.

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::task::JoinSet;
use tokio::time::{sleep, timeout};

/// C1, C2, S1 and S2 are this long.
const BLOCK: usize = 1536;

/// How long one connection is held before it is given up.
const HOLD: Duration = Duration::from_secs(30);

/// Pause before a connection that was closed is made again.
const PAUSE: Duration = Duration::from_millis(200);

/// What one of the crowd does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Habit {
    /// Connects and says nothing.
    Silent,
    /// Sends a handshake, a byte a second.
    Slow,
    /// Sends bytes that are no RTMP behind a handshake that is.
    Garbage,
    /// Announces the longest messages on many chunk streams, and fills them as far as it may.
    HugeLengths,
    /// Asks and asks, and reads no answer.
    EndlessPing,
}

const HABITS: [Habit; 5] = [Habit::Silent, Habit::Slow, Habit::Garbage, Habit::HugeLengths, Habit::EndlessPing];

/// The crowd. It leaves when it is dropped.
#[derive(Debug)]
pub struct Crowd {
    tasks: JoinSet<()>,
    connections: Arc<AtomicU64>,
}

impl Crowd {
    /// `count` callers at `address`, of five habits in turn. Whoever is sent away comes again.
    pub fn start(address: SocketAddr, count: usize) -> Self {
        let connections = Arc::new(AtomicU64::new(0));
        let mut tasks = JoinSet::new();
        for habit in HABITS.into_iter().cycle().take(count) {
            let connections = connections.clone();
            tasks.spawn(async move {
                loop {
                    if let Ok(stream) = TcpStream::connect(address).await {
                        connections.fetch_add(1, Ordering::Relaxed);
                        let _ = timeout(HOLD, bother(stream, habit)).await;
                    }
                    sleep(PAUSE).await;
                }
            });
        }
        Self { tasks, connections }
    }

    /// Connections that were made so far.
    pub fn connection_count(&self) -> u64 {
        self.connections.load(Ordering::Relaxed)
    }

    /// Callers.
    pub fn len(&self) -> usize {
        self.tasks.len()
    }

    /// True without callers.
    pub fn is_empty(&self) -> bool {
        self.tasks.is_empty()
    }
}

async fn bother(mut stream: TcpStream, habit: Habit) -> std::io::Result<()> {
    match habit {
        Habit::Silent => {
            let mut buffer = [0; 64];
            while stream.read(&mut buffer).await? > 0 {}
            return Ok(());
        }
        Habit::Slow => loop {
            stream.write_all(&[3]).await?;
            sleep(Duration::from_secs(1)).await;
        },
        _ => {}
    }
    let mut hello = vec![3];
    hello.resize(1 + 2 * BLOCK, 7);
    stream.write_all(&hello).await?;
    match habit {
        Habit::Garbage => loop {
            let noise: Vec<u8> = (0..4096u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 24).to_be_bytes()[3]).collect();
            stream.write_all(&noise).await?;
        },
        Habit::HugeLengths => {
            // Chunk size 65535, then messages of 65536 bytes whose last byte never comes.
            stream.write_all(&[2, 0, 0, 0, 0, 0, 4, 1, 0, 0, 0, 0, 0, 0, 0xff, 0xff]).await?;
            for chunk_stream in 3..60 {
                stream.write_all(&[chunk_stream, 0, 0, 0, 1, 0, 0, 9, 1, 0, 0, 0]).await?;
                stream.write_all(&[0; 65535]).await?;
            }
            // And one of 16 MiB.
            stream.write_all(&[60, 0, 0, 0, 0xff, 0xff, 0xff, 9, 1, 0, 0, 0]).await?;
            sleep(HOLD).await;
            Ok(())
        }
        _ => loop {
            let ping = [2, 0, 0, 0, 0, 0, 6, 4, 0, 0, 0, 0, 0, 6, 0, 0, 0, 1];
            stream.write_all(&ping.repeat(64)).await?;
        },
    }
}
