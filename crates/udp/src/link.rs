use std::io;
use std::net::{Ipv4Addr, Ipv6Addr, SocketAddr};
use std::time::Instant;

use bytes::Bytes;
use tokio::task::{JoinHandle, spawn_blocking};
use tokio::time::{sleep_until, timeout_at};
use waverant_srt::{
    CallError, Caller, CloseReason, Config, Connection, DerivedKey, Message, Randomness, SendError, Statistics,
    destination,
};

use crate::driver::{send, transmit};
use crate::outbox::Outbox;
use crate::rest::rest;
use crate::socket::{DatagramSocket, Inbox};

/// Why a call failed.
#[derive(Debug)]
pub enum LinkError {
    /// The system gave no socket.
    Socket(io::Error),
    /// The peer did not let us in.
    Call(CallError),
}

/// A call on its way.
#[derive(Debug)]
struct Calling {
    socket: DatagramSocket,
    caller: Caller,
    peer: SocketAddr,
    inbox: Inbox,
}

impl Calling {
    fn begin(peer: SocketAddr, config: Config, stream_id: Option<String>) -> Result<Self, LinkError> {
        let any = if peer.is_ipv4() { Ipv4Addr::UNSPECIFIED.into() } else { Ipv6Addr::UNSPECIFIED.into() };
        let socket = DatagramSocket::bind(SocketAddr::new(any, 0)).map_err(LinkError::Socket)?;
        let local_id = (rand::random::<u32>() >> 2).max(1);
        let random = Randomness::new(rand::random());
        let caller = Caller::new(config, peer, stream_id, local_id, random, Instant::now());
        Ok(Self { socket, caller, peer, inbox: Inbox::default() })
    }

    /// Says what is due, and takes what comes until there is more to say.
    async fn step(&mut self) -> Result<Option<Connection>, LinkError> {
        let (now, peer) = (Instant::now(), self.peer);
        self.caller.handle_timeout(now).map_err(LinkError::Call)?;
        if let Some(datagram) = self.caller.poll_transmit(now) {
            send(&self.socket, peer, &datagram, datagram.len());
        }
        let _ = timeout_at(self.caller.poll_timeout().into(), self.socket.readable()).await;
        read(&self.socket, &mut self.inbox);
        let now = Instant::now();
        let mut connection: Option<Connection> = None;
        for received in self.inbox.received().filter(|received| received.from == peer) {
            for datagram in received.datagrams() {
                match &mut connection {
                    Some(connection) => connection.handle_datagram(now, datagram),
                    None => connection = self.caller.handle_datagram(now, datagram).map_err(LinkError::Call)?,
                }
            }
        }
        Ok(connection)
    }
}

/// A connection that we made, on a socket of its own.
#[derive(Debug)]
pub struct Link {
    socket: DatagramSocket,
    connection: Connection,
    outbox: Outbox,
    inbox: Inbox,
    /// The peer's new key, while it is derived.
    derivation: Option<JoinHandle<DerivedKey>>,
}

impl Link {
    /// Calls `peer`.
    ///
    /// # Errors
    /// [`LinkError`] if that leads to no connection.
    pub async fn call(peer: SocketAddr, config: Config, stream_id: Option<String>) -> Result<Self, LinkError> {
        let mut calling = Calling::begin(peer, config, stream_id)?;
        loop {
            if let Some(connection) = calling.step().await? {
                let Calling { socket, inbox, .. } = calling;
                return Ok(Self { socket, connection, outbox: Outbox::default(), inbox, derivation: None });
            }
        }
    }

    /// Asks whether a listener of SRT is at `peer`, without saying what for.
    ///
    /// # Errors
    /// [`LinkError`] if none answers.
    pub async fn greet(peer: SocketAddr) -> Result<(), LinkError> {
        let mut calling = Calling::begin(peer, Config::default(), None)?;
        while !calling.caller.was_answered() {
            calling.step().await?;
        }
        Ok(())
    }

    /// The largest message that leaves in one packet.
    pub fn payload_size(&self) -> usize {
        self.connection.payload_size()
    }

    /// Takes a message to be sent by [`run_until`](Self::run_until).
    ///
    /// # Errors
    /// [`SendError`] if it was not taken.
    pub fn send(&mut self, message: &Bytes) -> Result<(), SendError> {
        self.connection.send(Instant::now(), message)
    }

    /// True if nothing waits to be sent or acknowledged.
    pub fn is_flushed(&self) -> bool {
        self.connection.is_flushed()
    }

    /// Figures of the connection.
    pub fn statistics(&self) -> Statistics {
        self.connection.statistics(Instant::now())
    }

    /// Sends and receives until `end`; messages go to `take`.
    ///
    /// # Errors
    /// Why the connection is over.
    pub async fn run_until(&mut self, end: Instant, mut take: impl FnMut(Message<'_>)) -> Result<(), CloseReason> {
        loop {
            let now = Instant::now();
            self.connection.handle_timeout(now);
            while let Some(message) = self.connection.poll_message(now) {
                take(message);
            }
            transmit(&self.socket, &mut self.connection, &mut self.outbox, now);
            if let Some(reason) = self.connection.close_reason().filter(|_| self.connection.is_done()) {
                return Err(reason);
            }
            if now >= end {
                return Ok(());
            }
            if let Some(derivation) = self.connection.poll_derivation() {
                self.derivation = Some(spawn_blocking(move || derivation.run()));
            }
            let wake = self.connection.poll_timeout().unwrap_or(end).min(end);
            tokio::select! {
                _ = self.socket.readable() => {}
                () = sleep_until(wake.into()) => {}
                derived = finished(&mut self.derivation) => {
                    self.derivation = None;
                    self.connection.take_derived(derived);
                }
            }
            let came = self.take_all();
            let rested = Instant::now() + rest(self.connection.least_latency(), came);
            sleep_until(rested.min(end).into()).await;
        }
    }

    /// Reads what is there; returns how many datagrams came.
    fn take_all(&mut self) -> usize {
        read(&self.socket, &mut self.inbox);
        let mut came = 0;
        let (now, peer, connection) = (Instant::now(), self.connection.peer(), &mut self.connection);
        for received in self.inbox.received().filter(|received| received.from == peer) {
            for datagram in received.datagrams() {
                came += 1;
                if destination(datagram) == Some(connection.local_id()) {
                    connection.handle_datagram(now, datagram);
                }
            }
        }
        came
    }

    /// Says goodbye.
    pub fn close(mut self) {
        self.connection.close();
        transmit(&self.socket, &mut self.connection, &mut self.outbox, Instant::now());
    }
}

/// What a derivation gave; waits for ever where there is none.
async fn finished(derivation: &mut Option<JoinHandle<DerivedKey>>) -> Option<DerivedKey> {
    match derivation {
        Some(derivation) => derivation.await.ok(),
        None => std::future::pending().await,
    }
}

/// What a peer's machine reports is not the socket's fault.
fn read(socket: &DatagramSocket, inbox: &mut Inbox) {
    if let Err(error) = socket.read(inbox) {
        tracing::debug!(%error, "datagrams could not be read");
    }
}

impl std::fmt::Display for LinkError {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Socket(error) => write!(out, "no socket: {error}"),
            Self::Call(error) => error.fmt(out),
        }
    }
}

impl std::error::Error for LinkError {}
