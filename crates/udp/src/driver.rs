use std::collections::HashMap;
use std::future::Future;
use std::io;
use std::net::SocketAddr;
use std::pin::{Pin, pin};
use std::time::{Duration, Instant};

use futures_util::StreamExt;
use futures_util::stream::FuturesUnordered;
use tokio::time::sleep_until;
use tokio_util::sync::CancellationToken;
use waverant_srt::{
    CloseReason, Config, Connection, DerivedKey, Listener, ListenerEvent, Randomness, RejectReason, Request,
    conclusion_from, destination,
};

use crate::derivations::{Derivations, Purpose, Refused};
use crate::doorkeeper::{Decision, Doorkeeper, Onward, Turned, Welcome};
use crate::farewells::Farewells;
use crate::outbox::Outbox;
use crate::rest::rest;
use crate::socket::{DatagramSocket, Inbox, Received};

/// Timers run out on multiples of this, so that one wake-up serves those of many connections.
const GRID: Duration = Duration::from_millis(5);

/// Reads in a row before what came is looked at.
const MAX_READS: usize = 32;

/// Callers of no name that are heard each time; what more of them say is lost, as on a busy line, and
/// they repeat it. So no flood of calls takes the time of connections.
const MAX_CALLS: usize = 32;

/// Callers that may wait at one time until it is decided whether they may come in.
const MAX_WAITING: usize = 64;

/// A caller that waits and says nothing for so long has given up.
const GIVEN_UP_AFTER: Duration = Duration::from_secs(2);

/// The rank from which callers are always heard.
const KNOWN_RANK: u8 = 3;

/// New keys of connections go before those of callers.
const CONNECTION_RANK: u8 = 4;

/// Guests are looked after this often.
const SERVE_INTERVAL: Duration = Duration::from_millis(10);

/// Figures are told this often.
const FIGURES_INTERVAL: Duration = Duration::from_millis(500);

/// A caller of whom it is not decided yet.
#[derive(Debug)]
struct Waiting {
    request: Box<Request>,
    heard_at: Instant,
}

/// What names a caller: where it is, and its number.
type CallerKey = (SocketAddr, u32);

type Decided<P> = (CallerKey, Result<Welcome<P>, RejectReason>);

type NamedDecision<P> = Pin<Box<dyn Future<Output = Decided<P>> + Send>>;

#[derive(Debug)]
struct Held<G> {
    connection: Connection,
    guest: G,
    due: Instant,
    was_touched: bool,
}

/// A socket that many callers share.
#[derive(Debug)]
pub struct SrtSocket<D: Doorkeeper> {
    socket: DatagramSocket,
    listener: Listener,
    doorkeeper: D,
    held: HashMap<u32, Held<D::Guest>>,
    /// Connections by the other end's address and number, to know a caller that repeats itself.
    known: HashMap<(SocketAddr, u32), u32>,
    farewells: Farewells,
    outbox: Outbox,
    derivations: Derivations<D::Pass>,
    /// Callers of whom it is not decided yet whether they may come in.
    waiting: HashMap<CallerKey, Waiting>,
    deciding: FuturesUnordered<NamedDecision<D::Pass>>,
    /// Callers that may still be heard before the next rest.
    calls_left: usize,
    next_id: u32,
    serve_at: Instant,
    /// Of all connections, when it was looked at last.
    least_latency: Duration,
    figures_at: Instant,
}

impl<D: Doorkeeper> SrtSocket<D> {
    /// Takes callers on `socket`.
    ///
    /// # Errors
    /// What the system said if it gives no thread for the keys of callers.
    pub fn new(socket: DatagramSocket, config: &Config, doorkeeper: D) -> io::Result<Self> {
        let now = Instant::now();
        let mut random = Randomness::new(rand::random());
        let listener = Listener::new(config, Randomness::new(random.seed()), now);
        let next_id = rand::random::<u32>() >> 2;
        Ok(Self {
            socket,
            listener,
            doorkeeper,
            held: HashMap::new(),
            known: HashMap::new(),
            farewells: Farewells::default(),
            outbox: Outbox::default(),
            derivations: Derivations::start()?,
            waiting: HashMap::new(),
            deciding: FuturesUnordered::new(),
            calls_left: MAX_CALLS,
            next_id,
            serve_at: now,
            figures_at: now,
            least_latency: Duration::ZERO,
        })
    }

    /// Works until `stop`; then says goodbye to all.
    pub async fn run(mut self, stop: CancellationToken) {
        let mut inbox = Inbox::default();
        let epoch = Instant::now();
        let mut stopped = pin!(stop.cancelled());
        loop {
            let wake = on_grid(epoch, self.next_wake());
            let (mut derived, mut decided) = (None, None);
            tokio::select! {
                _ = self.socket.readable() => {}
                () = sleep_until(wake.into()) => {}
                next = self.derivations.next() => derived = next,
                next = self.deciding.next(), if !self.deciding.is_empty() => decided = next,
                () = &mut stopped => break,
            }
            let now = Instant::now();
            self.take_derived(now, derived);
            self.take_decided(now, decided);
            let came = self.read_all(now, &mut inbox);
            self.look_after(now);
            sleep_until((now + rest(self.least_latency, came)).into()).await;
        }
        self.say_goodbye();
    }

    /// Reads what is there, of very many a part; returns how many datagrams came.
    fn read_all(&mut self, now: Instant, inbox: &mut Inbox) -> usize {
        self.calls_left = MAX_CALLS;
        let mut came = 0;
        for _ in 0..MAX_READS {
            if let Err(error) = self.socket.read(inbox) {
                // What a peer's machine reports is not the socket's fault.
                tracing::debug!(%error, "datagrams could not be read");
            }
            for received in inbox.received() {
                came += received.datagrams().count();
                self.take(now, received);
            }
            if !inbox.is_full() {
                break;
            }
        }
        came
    }

    fn next_wake(&self) -> Instant {
        let idle = Instant::now() + FIGURES_INTERVAL;
        if self.held.is_empty() {
            return idle;
        }
        self.held.values().map(|held| held.due).min().unwrap_or(idle).min(self.serve_at)
    }

    fn take(&mut self, now: Instant, received: Received<'_>) {
        let mut datagrams = received.datagrams().peekable();
        while let Some(datagram) = datagrams.next() {
            let to = destination(datagram);
            if to == Some(0) {
                self.take_caller(now, received.from, datagram);
                continue;
            }
            // A packet from elsewhere is not the peer's, whatever number it has.
            let held = to.and_then(|id| self.held.get_mut(&id));
            let Some(held) = held.filter(|held| held.connection.peer() == received.from) else {
                if let Some(farewell) = to.and_then(|id| self.farewells.answer(now, id, received.from)) {
                    send(&self.socket, received.from, farewell, farewell.len());
                }
                continue;
            };
            held.was_touched = true;
            held.connection.handle_datagram(now, datagram);
            // Nearly always they are all for the same one.
            while let Some(datagram) = datagrams.next_if(|next| destination(next) == to) {
                held.connection.handle_datagram(now, datagram);
            }
        }
    }

    fn take_caller(&mut self, now: Instant, from: SocketAddr, datagram: &[u8]) {
        let known = conclusion_from(datagram).and_then(|id| self.known.get(&(from, id)));
        if let Some(held) = known.and_then(|id| self.held.get_mut(id)) {
            held.connection.repeat_response();
            held.was_touched = true;
            return;
        }
        if self.doorkeeper.rank(from.ip()) < KNOWN_RANK {
            let Some(left) = self.calls_left.checked_sub(1) else { return };
            self.calls_left = left;
        }
        match self.listener.handle_datagram(now, from, datagram) {
            ListenerEvent::Answer(answer) => self.answer(from, &answer),
            ListenerEvent::Refused { answer, reason, detail } => {
                self.answer(from, &answer);
                self.doorkeeper.turned_away(Turned { from, reason, detail: Some(detail) });
            }
            ListenerEvent::Request(request) => self.judge(now, request),
            ListenerEvent::Ignored => {}
        }
    }

    fn judge(&mut self, now: Instant, request: Box<Request>) {
        let key = (request.from(), request.remote_id());
        if let Some(waiting) = self.waiting.get_mut(&key) {
            waiting.heard_at = now;
            return;
        }
        if self.derivations.is_waiting(&key) {
            return;
        }
        match self.doorkeeper.judge(&request) {
            Decision::Now(decided) => self.decided(now, request, decided),
            // What finds no room is not answered: the caller repeats itself.
            Decision::Later(_) if self.waiting.len() >= MAX_WAITING => {}
            Decision::Later(deciding) => {
                self.waiting.insert(key, Waiting { request, heard_at: now });
                self.deciding.push(Box::pin(async move { (key, deciding.await) }));
            }
        }
    }

    /// Goes on with a caller of whom it is decided: checks the passphrase.
    fn decided(&mut self, now: Instant, request: Box<Request>, decided: Result<Welcome<D::Pass>, RejectReason>) {
        let welcome = match decided {
            Ok(welcome) => welcome,
            Err(reason) => return self.refuse(now, &request, reason),
        };
        match welcome.config.passphrase.as_ref().and_then(|passphrase| request.derivation(passphrase)) {
            None => self.accept(now, &request, welcome, None),
            Some(derivation) => {
                let (address, key) = (request.from().ip(), (request.from(), request.remote_id()));
                let (rank, from) = (self.doorkeeper.rank(address), self.doorkeeper.caller_of(address));
                let purpose = Purpose::Caller(request, Box::new(welcome));
                let refused = self.derivations.queue(rank, from, key, derivation, purpose);
                self.forget_derivation(refused);
            }
        }
    }

    fn refuse(&self, now: Instant, request: &Request, reason: RejectReason) {
        self.answer(request.from(), &self.listener.refuse(now, request, reason));
    }

    /// Lets a caller in whose passphrase is right; one that is not is told.
    fn accept(&mut self, now: Instant, request: &Request, welcome: Welcome<D::Pass>, derived: Option<DerivedKey>) {
        if self.known.contains_key(&(request.from(), request.remote_id())) {
            return;
        }
        let (Welcome { config, pass }, id) = (welcome, self.free_id());
        let connection = match self.listener.accept(now, request, id, config, derived) {
            Ok(connection) => connection,
            Err(refused) => {
                self.doorkeeper.refused(request, pass, refused.reason);
                return self.answer(request.from(), &refused.answer);
            }
        };
        match self.doorkeeper.admit(request, pass) {
            Err(reason) => self.refuse(now, request, reason),
            Ok(guest) => {
                self.known.insert((request.from(), request.remote_id()), id);
                self.held.insert(id, Held { connection, guest, due: now, was_touched: true });
            }
        }
    }

    /// Goes on with those of whom it was decided.
    fn take_decided(&mut self, now: Instant, first: Option<Decided<D::Pass>>) {
        let Some((key, decided)) = first else { return };
        let Some(Waiting { request, heard_at }) = self.waiting.remove(&key) else { return };
        // Who waits repeats itself four times a second; who has given up is not to begin anything.
        if now < heard_at + GIVEN_UP_AFTER {
            self.decided(now, request, decided);
        }
    }

    /// Goes on with those whose keys were derived.
    fn take_derived(&mut self, now: Instant, first: Option<(Purpose<D::Pass>, DerivedKey)>) {
        let mut next = first;
        while let Some((purpose, derived)) = next {
            match purpose {
                Purpose::Caller(request, welcome) => self.accept(now, &request, *welcome, Some(derived)),
                Purpose::Connection(id) => {
                    if let Some(held) = self.held.get_mut(&id) {
                        held.connection.take_derived(Some(derived));
                        held.was_touched = true;
                    }
                }
            }
            next = self.derivations.try_next();
        }
    }

    fn forget_derivation(&mut self, Refused(connection): Refused) {
        if let Some(held) = connection.and_then(|id| self.held.get_mut(&id)) {
            held.connection.take_derived(None);
        }
    }

    fn free_id(&mut self) -> u32 {
        loop {
            self.next_id = self.next_id.wrapping_add(1) & 0x3fff_ffff;
            if self.next_id != 0 && !self.held.contains_key(&self.next_id) {
                return self.next_id;
            }
        }
    }

    fn answer(&self, to: SocketAddr, datagram: &[u8]) {
        send(&self.socket, to, datagram, datagram.len());
    }

    /// Does what is due on the connections that were touched, whose time has come or that are served.
    fn look_after(&mut self, now: Instant) {
        let is_serving = self.serve_at <= now;
        if is_serving {
            self.serve_at = now + SERVE_INTERVAL;
        }
        let is_telling = self.figures_at <= now;
        if is_telling {
            self.figures_at = now + FIGURES_INTERVAL;
            let latencies = self.held.values().map(|held| held.connection.least_latency());
            self.least_latency = latencies.min().unwrap_or_default();
        }
        let Self { socket, doorkeeper, held, outbox, derivations, .. } = self;
        let mut refused = Vec::new();
        for (id, held) in held.iter_mut() {
            if !(is_serving || held.was_touched || held.due <= now) {
                continue;
            }
            held.was_touched = false;
            held.connection.handle_timeout(now);
            while let Some(message) = held.connection.poll_message(now) {
                doorkeeper.message(&mut held.guest, message);
            }
            if is_serving && doorkeeper.serve(&mut held.guest, &mut held.connection, now) == Onward::Ends {
                held.connection.close();
            }
            if is_telling {
                doorkeeper.figures(&mut held.guest, &held.connection.statistics(now));
            }
            if let Some(derivation) = held.connection.poll_derivation() {
                let (peer, purpose) = (held.connection.peer(), Purpose::Connection(*id));
                let from = doorkeeper.caller_of(peer.ip());
                refused.push(derivations.queue(CONNECTION_RANK, from, (peer, *id), derivation, purpose));
            }
            transmit(socket, &mut held.connection, outbox, now);
            held.due = held.connection.poll_timeout().unwrap_or(now);
        }
        refused.into_iter().for_each(|refused| self.forget_derivation(refused));
        self.remove_closed(now);
    }

    fn remove_closed(&mut self, now: Instant) {
        let Self { held, known, farewells, doorkeeper, .. } = self;
        let closed = held.extract_if(|_, held| held.connection.is_done());
        for (id, Held { connection, guest, .. }) in closed {
            known.remove(&(connection.peer(), connection.remote_id()));
            let Some(reason) = connection.close_reason() else { continue };
            if reason != CloseReason::Shutdown {
                farewells.remember(now, id, connection.peer(), connection.farewell(now));
            }
            doorkeeper.closed(guest, reason);
        }
    }

    fn say_goodbye(&mut self) {
        let now = Instant::now();
        let Self { socket, held, outbox, .. } = self;
        for held in held.values_mut() {
            held.connection.close();
            transmit(socket, &mut held.connection, outbox, now);
        }
        self.remove_closed(now);
    }
}

/// The first moment of the grid at or after `at`.
fn on_grid(epoch: Instant, at: Instant) -> Instant {
    let (since, step) = (at.saturating_duration_since(epoch).as_micros(), GRID.as_micros());
    epoch + Duration::from_micros(u64::try_from(since.div_ceil(step) * step).unwrap_or(u64::MAX))
}

/// Sends everything that a connection has to send now.
pub(crate) fn transmit(socket: &DatagramSocket, connection: &mut Connection, outbox: &mut Outbox, now: Instant) {
    let (to, most) = (connection.peer(), socket.max_segments());
    let flush = |bytes: &[u8], segment: usize| send(socket, to, bytes, segment);
    while outbox.add(most, |out| connection.poll_transmit(now, out), flush).is_some() {}
    outbox.finish(flush);
}

/// What the kernel does not take is lost, as on any line; the protocol makes it good.
pub(crate) fn send(socket: &DatagramSocket, to: SocketAddr, bytes: &[u8], segment: usize) {
    match socket.send(to, bytes, segment) {
        Ok(true) => {}
        Ok(false) => tracing::debug!(%to, "the send buffer is full"),
        Err(error) if error.kind() == io::ErrorKind::ConnectionRefused => {}
        Err(error) => tracing::debug!(%to, %error, "a datagram could not be sent"),
    }
}
