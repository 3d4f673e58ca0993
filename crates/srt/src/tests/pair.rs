use std::net::SocketAddr;
use std::time::{Duration, Instant};

use bytes::Bytes;

use super::line::{Faults, Line};
use crate::{CallError, Caller, Config, Connection, Listener, ListenerEvent, Message, Randomness, RejectReason};

pub(super) const PEER: &str = "192.0.2.7:40000";
pub(super) const HOUSE: &str = "192.0.2.1:7810";

pub(super) fn address(text: &str) -> SocketAddr {
    text.parse().unwrap()
}

#[expect(clippy::disallowed_methods, reason = "one start instant is taken, then only added to")]
pub(super) fn start() -> Instant {
    Instant::now()
}

/// A message that was handed on, and when.
#[derive(Clone, Debug)]
pub(super) struct Delivered {
    pub(super) at: Instant,
    pub(super) payload: Vec<u8>,
    pub(super) lost_before: u32,
}

fn delivered(at: Instant, message: Message<'_>) -> Delivered {
    Delivered { at, payload: message.payload.to_vec(), lost_before: message.lost_before }
}

/// A caller and a listener, their connections, and the line between them.
pub(super) struct Pair {
    pub(super) now: Instant,
    pub(super) start: Instant,
    pub(super) caller: Connection,
    pub(super) listener: Connection,
    pub(super) up: Line,
    pub(super) down: Line,
    pub(super) at_listener: Vec<Delivered>,
    pub(super) at_caller: Vec<Delivered>,
    pub(super) seen: Vec<Vec<u8>>,
    pub(super) keeps_seen: bool,
}

pub(super) fn caller(now: Instant, config: &Config, seq: Option<u32>) -> Caller {
    let random = Randomness::new([7; 32]);
    let caller = Caller::new(config.clone(), address(HOUSE), Some("boathouse".to_owned()), 77, random, now);
    match seq {
        Some(seq) => caller.with_initial_seq(seq),
        None => caller,
    }
}

pub(super) fn listener(now: Instant, config: &Config) -> Listener {
    Listener::new(config, Randomness::new([9; 32]), now)
}

/// Calls over a line that only takes `way`. The listener's end begins one way before the caller's.
pub(super) fn call(
    mut now: Instant,
    way: Duration,
    (ours, seq): (&Config, Option<u32>),
    theirs: &Config,
) -> Result<(Connection, Connection), CallError> {
    let (mut caller, mut listener) = (caller(now, ours, seq), listener(now, theirs));
    let mut accepted = None;
    for _ in 0..10 {
        let Some(datagram) = caller.poll_transmit(now) else { continue };
        now += way;
        let answer = match listener.handle_datagram(now, address(PEER), &datagram) {
            ListenerEvent::Answer(answer) | ListenerEvent::Refused { answer, .. } => answer,
            ListenerEvent::Request(request) => match listener.accept(now, &request, 11, theirs.clone(), None) {
                Ok(mut connection) => {
                    let mut out = Vec::new();
                    let _ = connection.poll_transmit(now, &mut out);
                    accepted = Some(connection);
                    out
                }
                Err(refused) => refused.answer,
            },
            ListenerEvent::Ignored => panic!("the listener does not know our caller"),
        };
        now += way;
        if let Some(connection) = caller.handle_datagram(now, &answer)? {
            return Ok((connection, accepted.expect("the caller was answered")));
        }
    }
    panic!("the handshake does not end");
}

impl Pair {
    pub(super) fn new(ours: &Config, theirs: &Config, faults: (Faults, Faults), seed: u64) -> Self {
        Self::starting_at_seq(ours, theirs, faults, seed, None)
    }

    pub(super) fn starting_at_seq(
        ours: &Config,
        theirs: &Config,
        (up, down): (Faults, Faults),
        seed: u64,
        seq: Option<u32>,
    ) -> Self {
        let now = start() + Duration::from_secs(100);
        let (caller, listener) = call(now, up.delay, (ours, seq), theirs).expect("both ends agree");
        let now = now + up.delay * 4;
        Self {
            now,
            start: now,
            caller,
            listener,
            up: Line::new(up, seed),
            down: Line::new(down, seed + 1000),
            at_listener: Vec::new(),
            at_caller: Vec::new(),
            seen: Vec::new(),
            keeps_seen: false,
        }
    }

    /// Everything that is to happen now.
    fn settle(&mut self) {
        let now = self.now;
        let mut out = Vec::new();
        loop {
            while let Some(datagram) = self.up.arrive(now) {
                self.listener.handle_datagram(now, &datagram);
            }
            while let Some(datagram) = self.down.arrive(now) {
                self.caller.handle_datagram(now, &datagram);
            }
            for connection in [&mut self.caller, &mut self.listener] {
                if let Some(derivation) = connection.poll_derivation() {
                    connection.take_derived(Some(derivation.run()));
                }
            }
            self.caller.handle_timeout(now);
            self.listener.handle_timeout(now);
            self.at_listener.extend(std::iter::from_fn(|| Some(delivered(now, self.listener.poll_message(now)?))));
            self.at_caller.extend(std::iter::from_fn(|| Some(delivered(now, self.caller.poll_message(now)?))));
            let mut is_quiet = true;
            for (connection, line) in [(&mut self.caller, &mut self.up), (&mut self.listener, &mut self.down)] {
                out.clear();
                while connection.poll_transmit(now, &mut out).is_some() {
                    line.send(now, &out);
                    if self.keeps_seen {
                        self.seen.push(out.clone());
                    }
                    out.clear();
                    is_quiet = false;
                }
            }
            if is_quiet {
                return;
            }
        }
    }

    /// Lets time pass until `end`.
    pub(super) fn run_until(&mut self, end: Instant) {
        self.settle();
        loop {
            let next =
                [self.up.next_at(), self.down.next_at(), self.caller.poll_timeout(), self.listener.poll_timeout()];
            let next = next.into_iter().flatten().min().unwrap_or(end);
            if next >= end {
                break;
            }
            // A clock that does not stand still: nobody waits for less than a tenth of a millisecond.
            self.now = next.max(self.now + Duration::from_micros(100)).min(end);
            self.settle();
        }
        self.now = end;
        self.settle();
    }

    pub(super) fn run_for(&mut self, length: Duration) {
        self.run_until(self.now + length);
    }

    /// Sends `count` numbered messages from the caller, `interval` apart.
    pub(super) fn stream(&mut self, count: u32, interval: Duration, length: usize) {
        for number in 0..count {
            let at = self.now;
            self.caller.send(at, &numbered(number, length)).expect("there is room");
            self.run_until(at + interval);
        }
    }
}

/// A message that says which it is.
pub(super) fn numbered(number: u32, length: usize) -> Bytes {
    let mut message = vec![(number % 251) as u8; length.max(4)];
    message[..4].copy_from_slice(&number.to_be_bytes());
    message.into()
}

pub(super) fn number_of(delivered: &Delivered) -> u32 {
    u32::from_be_bytes(delivered.payload[..4].try_into().unwrap())
}

pub(super) fn refusal(ours: &Config, theirs: &Config) -> RejectReason {
    match call(start(), Duration::ZERO, (ours, None), theirs) {
        Err(CallError::Refused(reason)) => reason,
        other => panic!("not refused: {:?}", other.err()),
    }
}
