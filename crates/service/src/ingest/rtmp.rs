use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use tokio::io::AsyncReadExt;
use tokio::net::tcp::{OwnedReadHalf, OwnedWriteHalf};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Semaphore;
use tokio::time::{sleep, sleep_until, timeout};
use waverant_relay::{TurnAway, TurnAwayReason};
use waverant_rtmp::{Error, Limits, Refusal, ServerConfig, ServerConnection, ServerEvent};

use crate::house::House;
use crate::net::WriteQueue;
use crate::show::Seat;

/// Bytes read at once. At 6 Mbit/s this is 23 reads a second.
const READ_BUFFER: usize = 32 * 1024;

/// Answers that a peer may leave unread. A publisher needs a few hundred bytes.
const MAX_UNREAD: usize = 64 * 1024;

/// How long a peer that is sent away may take to read why.
const FAREWELL: Duration = Duration::from_secs(2);

/// Pause after the system refused to accept, for example for want of file descriptors.
const ACCEPT_PAUSE: Duration = Duration::from_millis(100);

/// Settings of the RTMP front door.
#[derive(Clone, Debug)]
pub(crate) struct RtmpSettings {
    pub(crate) limits: Limits,
    pub(crate) max_connections: usize,
}

/// Takes RTMP connections until the service stops.
#[derive(Debug)]
pub(crate) struct RtmpListener {
    listener: TcpListener,
    house: Arc<House>,
    settings: RtmpSettings,
    permits: Arc<Semaphore>,
    seed: AtomicU64,
}

impl RtmpListener {
    pub(crate) fn new(listener: TcpListener, house: Arc<House>, settings: RtmpSettings) -> Self {
        let permits = Arc::new(Semaphore::new(settings.max_connections));
        Self { listener, house, settings, permits, seed: AtomicU64::new(0x9e37_79b9_7f4a_7c15) }
    }

    pub(crate) async fn run(self) {
        loop {
            let accepted = tokio::select! {
                accepted = self.listener.accept() => accepted,
                () = self.house.stopping.cancelled() => return,
            };
            match accepted {
                Ok((stream, peer)) => self.take(stream, peer),
                Err(error) => {
                    tracing::warn!(%error, "a connection could not be accepted");
                    sleep(ACCEPT_PAUSE).await;
                }
            }
        }
    }

    fn take(&self, stream: TcpStream, peer: SocketAddr) {
        let Ok(permit) = self.permits.clone().try_acquire_owned() else {
            let reason = TurnAwayReason::TooManyConnections;
            let away = TurnAway { reason, key_prefix: None, channel_id: None };
            return self.house.note_turned_away(peer, &away, None);
        };
        let seed = self.seed.fetch_add(0x9e37_79b9_7f4a_7c15, Ordering::Relaxed);
        let config = ServerConfig { limits: self.settings.limits.clone(), seed };
        let publisher = Driver::new(stream, peer, self.house.clone(), config);
        self.house.tasks.spawn(async move {
            publisher.run().await;
            drop(permit);
        });
    }
}

/// Why a connection is done.
enum End {
    /// The socket was closed or failed.
    Closed(io::Result<()>),
    /// The peer broke the protocol or a deadline.
    Fault(Error),
    /// All is said from our side.
    Done,
}

/// Moves bytes between one socket and one [`ServerConnection`].
struct Driver {
    reader: OwnedReadHalf,
    writer: OwnedWriteHalf,
    peer: SocketAddr,
    house: Arc<House>,
    connection: ServerConnection,
    queue: WriteQueue,
    seat: Option<Seat>,
    was_seated: bool,
}

impl Driver {
    fn new(stream: TcpStream, peer: SocketAddr, house: Arc<House>, config: ServerConfig) -> Self {
        let _ = stream.set_nodelay(true);
        let (reader, writer) = stream.into_split();
        let connection = ServerConnection::new(config, Instant::now());
        let queue = WriteQueue::default();
        Self { reader, writer, peer, house, connection, queue, seat: None, was_seated: false }
    }

    async fn run(mut self) {
        let end = self.carry().await;
        // What is still to be said, such as a refusal, gets a moment to arrive.
        self.collect_output();
        let _ = timeout(FAREWELL, self.queue.write_all(&mut self.writer)).await;
        self.note(&end);
        if matches!(end, End::Done) {
            self.linger().await;
        }
    }

    async fn carry(&mut self) -> End {
        let mut buffer = vec![0; READ_BUFFER];
        loop {
            self.collect_output();
            if self.connection.is_closing() {
                return End::Done;
            }
            if self.queue.byte_count() > MAX_UNREAD {
                return End::Closed(Err(io::Error::other("the peer asks without reading the answers")));
            }
            let deadline = self.connection.poll_timeout();
            let evicted = async {
                match &self.seat {
                    Some(seat) => seat.evicted().await,
                    None => self.house.stopping.cancelled().await,
                }
            };
            tokio::select! {
                read = self.reader.read(&mut buffer) => match read {
                    Ok(0) => return End::Closed(Ok(())),
                    Ok(count) => {
                        if let Err(error) = self.connection.handle_input(Instant::now(), &buffer[..count]) {
                            // Media that came before the fault still counts.
                            self.handle_events();
                            return End::Fault(error);
                        }
                        self.handle_events();
                    }
                    Err(error) => return End::Closed(Err(error)),
                },
                written = self.queue.write_some(&mut self.writer), if !self.queue.is_empty() => {
                    if let Err(error) = written {
                        return End::Closed(Err(error));
                    }
                }
                () = sleep_until_maybe(deadline) => {
                    if let Err(error) = self.connection.handle_timeout(Instant::now()) {
                        return End::Fault(error);
                    }
                }
                () = evicted => {
                    let reason = self.seat.as_ref().map(Seat::eviction_reason);
                    self.connection.end_publish(&reason.unwrap_or_else(|| "The server is stopping.".to_owned()));
                }
            }
        }
    }

    fn collect_output(&mut self) {
        while let Some(piece) = self.connection.poll_transmit() {
            self.queue.push(piece);
        }
    }

    fn handle_events(&mut self) {
        while let Some(event) = self.connection.poll_event() {
            match (event, &self.seat) {
                (ServerEvent::PublishRequested(request), _) => self.decide(&request),
                (ServerEvent::Metadata(metadata), Some(seat)) => seat.metadata(metadata),
                (ServerEvent::Media { kind, timestamp, body }, Some(seat)) => seat.media(kind, timestamp, &body),
                (ServerEvent::PublishEnded, Some(_)) => {
                    if let Some(seat) = self.seat.take() {
                        seat.end("the encoder stopped");
                    }
                }
                _ => {}
            }
        }
    }

    fn decide(&mut self, request: &waverant_rtmp::PublishRequest) {
        let answer = match self.house.admit(self.peer, request) {
            Ok(seat) => {
                tracing::debug!(peer = %self.peer, session = seat.show().id, "let in");
                self.seat = Some(seat);
                self.was_seated = true;
                self.connection.accept_publish(Instant::now())
            }
            Err(away) => {
                self.house.note_turned_away(self.peer, &away, None);
                self.was_seated = true;
                self.connection.refuse_publish(&Refusal { description: away.reason.to_string() })
            }
        };
        if let Err(error) = answer {
            tracing::error!(%error, "a publisher could not be answered");
        }
    }

    /// Notes who never came to ask, and logs the rest.
    fn note(&self, end: &End) {
        let away = |reason| TurnAway { reason, key_prefix: None, channel_id: None };
        match end {
            End::Fault(error) if !self.was_seated => {
                let reason = match error {
                    Error::Timeout(_) => TurnAwayReason::TooSlow,
                    _ => TurnAwayReason::NotUnderstood,
                };
                self.house.note_turned_away(self.peer, &away(reason), Some(error.to_string()));
            }
            End::Fault(error) => tracing::warn!(peer = %self.peer, %error, "the publisher's connection was given up"),
            End::Closed(Err(error)) => tracing::debug!(peer = %self.peer, %error, "connection closed"),
            End::Closed(Ok(())) | End::Done => tracing::debug!(peer = %self.peer, "connection closed"),
        }
    }

    /// Closing with unread input would reset the connection, and the peer would lose our last
    /// words: so the rest is read for a moment.
    async fn linger(mut self) {
        let _ = tokio::io::AsyncWriteExt::shutdown(&mut self.writer).await;
        let mut rest = [0; 4096];
        let _ =
            timeout(FAREWELL, async { while matches!(self.reader.read(&mut rest).await, Ok(count) if count > 0) {} })
                .await;
    }
}

async fn sleep_until_maybe(deadline: Option<Instant>) {
    match deadline {
        Some(deadline) => sleep_until(deadline.into()).await,
        None => std::future::pending().await,
    }
}
