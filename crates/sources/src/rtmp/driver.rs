use std::collections::BTreeMap;
use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use tokio::time::{sleep, sleep_until};
use waverant_house::{Deciding, DoorCaller, Entrance, House, Presented, Tuner, Verdict, Wish};
use waverant_relay::{KeyRight, Protocol, TurnAway, TurnAwayReason, Way};
use waverant_rtmp::{
    ChunkError, CredentialsAnswer, Error, Refusal, ServerConfig, ServerConnection, ServerEvent, StreamRequest,
    TimeoutKind,
};
use waverant_show::Seat;

use super::farewell::{linger, say_last_words};
use super::reason_of;
use super::viewing::{READING, Served, Viewing};
use waverant_net::{Moved, Place, Wire, WriteQueue};

/// Bytes read at once from who was let in. At 6 Mbit/s this is 23 reads a second.
const READ_BUFFER: usize = 32 * 1024;

/// Bytes read at once before: many who wait are to cost little.
const WAITING_BUFFER: usize = 4 * 1024;

/// No more is put into the write queue while this much waits in it.
const MAX_QUEUED: usize = 64 * 1024;

/// A player that takes no byte for this long is given up.
const STALL: Duration = Duration::from_secs(10);

/// How often it is looked whether a player that waits may still do so.
const LOOK_INTERVAL: Duration = Duration::from_secs(1);

/// With this in its stream name a player wants one show alone.
const ONE_SHOW: &str = "shows=one";

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
pub(super) struct Driver {
    wire: Wire,
    peer: SocketAddr,
    protocol: Protocol,
    house: Arc<House>,
    place: Place,
    connection: ServerConnection,
    queue: WriteQueue,
    /// Publishers by message stream.
    seats: BTreeMap<u32, Seat>,
    viewings: Vec<Viewing>,
    /// Who asked to come in, and of whom it is not decided yet.
    asking: Vec<Asking>,
    /// The key that the peer showed by user name and password.
    shown_key: Option<u64>,
    /// True once the peer asked for something and was answered.
    was_answered: bool,
    last_progress: Instant,
}

impl Driver {
    pub(super) fn new(
        wire: Wire,
        (peer, protocol): (SocketAddr, Protocol),
        (house, place): (Arc<House>, Place),
        config: ServerConfig,
    ) -> Self {
        let now = Instant::now();
        Self {
            wire,
            peer,
            protocol,
            house,
            place,
            connection: ServerConnection::new(config, now),
            queue: WriteQueue::default(),
            seats: BTreeMap::new(),
            viewings: Vec::new(),
            asking: Vec::new(),
            shown_key: None,
            was_answered: false,
            last_progress: now,
        }
    }

    pub(super) async fn run(mut self) {
        let end = self.carry().await;
        while let Some(piece) = self.connection.poll_transmit() {
            self.queue.push(piece);
        }
        say_last_words(&mut self.wire, &mut self.queue).await;
        self.note(&end);
        // Who is only heard out makes room for whoever comes.
        self.seats.clear();
        self.viewings.clear();
        self.asking.clear();
        self.place.send_back();
        if matches!(end, End::Done) {
            linger(self.wire).await;
        }
    }

    async fn carry(&mut self) -> End {
        let mut buffer = vec![0; WAITING_BUFFER];
        loop {
            if buffer.len() < READ_BUFFER && !(self.seats.is_empty() && self.viewings.is_empty()) {
                buffer.resize(READ_BUFFER, 0);
            }
            self.serve_viewings();
            self.collect_output();
            if self.connection.is_closing() {
                return End::Done;
            }
            let outcome = self.step(&mut buffer).await;
            if let Err(end) = outcome {
                return end;
            }
        }
    }

    /// Waits for whatever comes first.
    async fn step(&mut self, buffer: &mut [u8]) -> Result<(), End> {
        let stalled = (!self.queue.is_empty() && !self.viewings.is_empty()).then(|| self.last_progress + STALL);
        let deadline = self.connection.poll_timeout();
        // A player is served by news; one that has not read what it has is not served yet.
        let listening = self.queue.byte_count() < MAX_QUEUED;
        let news = wait_for_news(if listening { &self.viewings } else { &[] });
        // Where nothing comes it is looked all the same whether the key still opens.
        let is_waiting = self.viewings.iter().any(Viewing::is_waiting);
        tokio::select! {
            moved = self.wire.step(buffer, &mut self.queue) => return self.handle_moved(moved, buffer),
            () = news => {}
            () = sleep(LOOK_INTERVAL), if is_waiting => {}
            () = sleep_until_maybe(deadline) => {
                if let Err(error) = self.connection.handle_timeout(Instant::now()) {
                    return Err(End::Fault(error));
                }
            }
            () = sleep_until_maybe(stalled) => {
                self.house.counts().count("stalled_player");
                return Err(End::Closed(Err(io::Error::other("the player takes nothing"))));
            }
            (stream, decided) = wait_for_decision(&mut self.asking) => self.decided(stream, decided),
            stream = wait_for_eviction(&self.seats) => self.evict(stream),
            () = self.house.stopping().cancelled(), if self.seats.is_empty() => self.stop(),
        }
        Ok(())
    }

    fn handle_moved(&mut self, moved: io::Result<Moved>, buffer: &[u8]) -> Result<(), End> {
        match moved {
            Ok(Moved::Wrote) => self.last_progress = Instant::now(),
            Ok(Moved::Read(0)) => return Err(End::Closed(Ok(()))),
            Ok(Moved::Read(count)) => {
                if !self.was_answered {
                    self.place.note_progress(if self.connection.is_greeted() { 2 } else { 1 });
                }
                let outcome = self.connection.handle_input(Instant::now(), &buffer[..count]);
                // Media that came before a fault still counts.
                self.handle_events();
                outcome.map_err(End::Fault)?;
            }
            Err(error) => return Err(End::Closed(Err(error))),
        }
        Ok(())
    }

    /// A peer that reads slowly gets its next output when it has read what it has.
    fn collect_output(&mut self) {
        while self.queue.byte_count() < MAX_QUEUED
            && let Some(piece) = self.connection.poll_transmit()
        {
            if self.queue.is_empty() {
                self.last_progress = Instant::now();
            }
            self.queue.push(piece);
        }
    }

    fn serve_viewings(&mut self) {
        let mut place = 0;
        while place < self.viewings.len() && self.queue.byte_count() < MAX_QUEUED {
            let viewing = &mut self.viewings[place];
            let served = match self.house.player_fault(viewing.seat()) {
                None => viewing.serve(&mut self.connection),
                Some(fault) => Served::Over(fault.into_owned()),
            };
            match served {
                Served::UpToDate => place += 1,
                Served::More => self.collect_output(),
                Served::Over(reason) => {
                    self.connection.end_play(viewing.stream(), &reason);
                    self.viewings.remove(place);
                }
            }
        }
    }

    fn handle_events(&mut self) {
        while let Some(event) = self.connection.poll_event() {
            match event {
                ServerEvent::CredentialsWanted { user } => self.challenge(&user),
                ServerEvent::CredentialsGiven(answer) => self.check(&answer),
                ServerEvent::PublishRequested(request) => self.ask(request, KeyRight::Publish),
                ServerEvent::PlayRequested(request) => self.ask(request, KeyRight::View),
                ServerEvent::Metadata { stream, metadata } => {
                    if let Some(seat) = self.seats.get(&stream) {
                        seat.metadata(metadata);
                    }
                }
                ServerEvent::Media { stream, kind, timestamp, body } => {
                    if let Some(seat) = self.seats.get(&stream) {
                        seat.media(kind, timestamp, &body);
                    }
                }
                ServerEvent::PublishEnded { stream } => {
                    self.asking.retain(|asking| asking.request.stream != stream);
                    if let Some(seat) = self.seats.remove(&stream) {
                        seat.end("the encoder stopped");
                    }
                }
                ServerEvent::PlayResumed { stream } => {
                    let viewing = self.viewings.iter_mut().find(|viewing| viewing.stream() == stream);
                    viewing.into_iter().for_each(Viewing::restart);
                }
                ServerEvent::PlayEnded { stream } => {
                    self.asking.retain(|asking| asking.request.stream != stream);
                    self.viewings.retain(|viewing| viewing.stream() != stream);
                }
                _ => {}
            }
        }
        if self.was_answered && self.asking.is_empty() && self.seats.is_empty() && self.viewings.is_empty() {
            self.place.send_back();
        }
    }

    fn challenge(&mut self, user: &str) {
        self.was_answered = true;
        let (salt, opaque) = self.house.challenge(user);
        log_misuse(self.connection.challenge(user, &salt, &opaque));
    }

    fn check(&mut self, answer: &CredentialsAnswer) {
        self.was_answered = true;
        self.shown_key = self.house.check_answer(answer);
        log_misuse(if self.shown_key.is_some() {
            self.connection.accept_connect()
        } else {
            // A user name may hold anything; only what has the form of a key's first part is kept.
            let is_prefix = answer.user.len() == 7 && answer.user.bytes().all(|byte| byte.is_ascii_alphanumeric());
            let key_prefix = is_prefix.then(|| answer.user.clone());
            let away = TurnAway { key_prefix, ..TurnAway::of_stranger(TurnAwayReason::WrongPassword) };
            self.house.note_turned_away(&self.caller(""), &away, None);
            self.connection.refuse_credentials()
        });
    }

    /// Somebody wants to publish or to watch. Where that is not decided at once, the connection goes on meanwhile.
    fn ask(&mut self, request: StreamRequest, right: KeyRight) {
        self.was_answered = true;
        // Asked for first: who finds no place is not to begin a session.
        if let Err(why) = self.place.let_in() {
            return log_misuse(self.refuse(&request, &TurnAway::of_stranger(reason_of(why))));
        }
        let presented = Presented {
            peer: self.peer,
            right,
            app: &request.connect.app,
            name: &request.name,
            tc_url: &request.connect.tc_url,
            others: [""; 2],
            protocol: self.protocol,
            shown_key: self.shown_key,
        };
        match self.house.ask(&presented, &request.connect.flash_version) {
            Verdict::Now(decided) => self.answer(&request, right, decided),
            Verdict::Later(deciding) => self.asking.push(Asking { request, right, deciding }),
        }
    }

    fn decided(&mut self, stream: u32, decided: Result<Entrance, TurnAway>) {
        let Some(place) = self.asking.iter().position(|asking| asking.request.stream == stream) else { return };
        let Asking { request, right, .. } = self.asking.remove(place);
        self.answer(&request, right, decided);
    }

    fn answer(&mut self, request: &StreamRequest, right: KeyRight, decided: Result<Entrance, TurnAway>) {
        log_misuse(match (decided, right) {
            (Err(away), _) => self.refuse(request, &away),
            (Ok(entrance), KeyRight::Publish) => self.let_in(request, entrance),
            (Ok(entrance), KeyRight::View) => self.show_to(request, &entrance),
        });
    }

    fn let_in(&mut self, request: &StreamRequest, entrance: Entrance) -> Result<(), Error> {
        let stream = request.stream;
        match self.house.let_in(self.peer, &request.connect.flash_version, entrance) {
            Ok(seat) => {
                tracing::debug!(peer = %self.peer, session = seat.show().id(), "let in");
                self.seats.insert(stream, seat);
                self.connection.accept_publish(Instant::now(), stream)
            }
            Err(away) => self.refuse(request, &away),
        }
    }

    fn show_to(&mut self, request: &StreamRequest, entrance: &Entrance) -> Result<(), Error> {
        let (stream, channel) = (request.stream, &entrance.admission.channel);
        let player = (self.peer, request.connect.flash_version.as_str());
        let seat = match self.house.seat_by_key(player, entrance, Way::Rtmp) {
            Ok(seat) => seat,
            Err(reason) => {
                return self.connection.refuse(stream, &Refusal { description: reason.to_string() });
            }
        };
        tracing::info!(peer = %self.peer, channel = %channel.name, "a player over RTMP");
        let accepted = self.connection.accept_play(Instant::now(), stream);
        let wish = Wish { is_one_show: wants_one_show(&request.name), sees_rehearsals: true };
        let tuner = Tuner::new(self.house.clone(), channel.id, wish, READING);
        self.viewings.push(Viewing::new(stream, tuner, seat));
        accepted
    }

    fn refuse(&mut self, request: &StreamRequest, away: &TurnAway) -> Result<(), Error> {
        self.house.note_turned_away(&self.caller(&request.connect.flash_version), away, None);
        self.connection.refuse(request.stream, &Refusal { description: away.words() })
    }

    fn caller<'a>(&self, encoder: &'a str) -> DoorCaller<'a> {
        DoorCaller { peer: self.peer, protocol: Some(self.protocol), encoder }
    }

    /// Ends a publisher from our side. When the service stops, one that knows how is asked to
    /// connect anew.
    fn evict(&mut self, stream: u32) {
        let Some(seat) = self.seats.get(&stream) else { return };
        let reason = seat.eviction_reason();
        if self.house.stopping().is_cancelled() {
            self.connection.request_reconnect(None, &reason);
        }
        self.connection.end_publish(stream, &reason);
        // Dropped after its end is told; the session ends with it.
        self.seats.remove(&stream);
    }

    fn stop(&mut self) {
        let reason = "The server is stopping.";
        self.connection.request_reconnect(None, reason);
        for viewing in self.viewings.drain(..) {
            self.connection.end_play(viewing.stream(), reason);
        }
        // Also one that has not asked for anything yet is done.
        self.connection.end_publish(0, reason);
    }

    /// Notes who never came to ask, and logs the rest.
    fn note(&self, end: &End) {
        let peer = self.peer;
        let irregular_headers = self.connection.counters().irregular_header_count;
        match end {
            End::Fault(error) if !self.was_answered => {
                let reason = match error {
                    Error::Timeout(_) => TurnAwayReason::TooSlow,
                    _ => TurnAwayReason::NotUnderstood,
                };
                self.house.note_turned_away(&self.caller(""), &TurnAway::of_stranger(reason), Some(error.to_string()));
            }
            End::Fault(error) => {
                self.house.counts().count(fault_code(error));
                tracing::warn!(%peer, %error, irregular_headers, "the connection was given up");
            }
            End::Closed(Err(error)) => tracing::debug!(%peer, %error, irregular_headers, "connection closed"),
            End::Closed(Ok(())) | End::Done => tracing::debug!(%peer, irregular_headers, "connection closed"),
        }
    }
}

/// Somebody who asked to come in, and of whom it is not decided yet.
struct Asking {
    request: StreamRequest,
    right: KeyRight,
    deciding: Deciding,
}

/// Whether a player wants one show and then the end, as in `KEY?shows=one`.
fn wants_one_show(name: &str) -> bool {
    let query = name.split_once('?').map_or("", |(_, query)| query);
    query.split('&').any(|said| said == ONE_SHOW)
}

/// Why a connection that was let in before was given up, as a stable word for programs.
fn fault_code(error: &Error) -> &'static str {
    match error {
        Error::Timeout(TimeoutKind::Idle) => "idle_publisher",
        Error::Timeout(_) => "idle_connection",
        Error::Chunk(ChunkError::MessageTooLong { .. } | ChunkError::TooMuchHeld { .. }) => "message_too_long",
        Error::Unread => "answers_unread",
        _ => "protocol_fault",
    }
}

fn log_misuse(answer: Result<(), Error>) {
    if let Err(error) = answer {
        tracing::error!(%error, "a peer could not be answered");
    }
}

async fn sleep_until_maybe(deadline: Option<Instant>) {
    match deadline {
        Some(deadline) => sleep_until(deadline.into()).await,
        None => std::future::pending().await,
    }
}

/// The stream whose publisher is to be ended from our side.
async fn wait_for_eviction(seats: &BTreeMap<u32, Seat>) -> u32 {
    let waits = seats.iter().map(|(stream, seat)| async move {
        seat.evicted().await;
        *stream
    });
    first_of(waits).await
}

/// The next request of which it is decided whether it is granted; the request itself stays.
async fn wait_for_decision(asking: &mut [Asking]) -> (u32, Result<Entrance, TurnAway>) {
    let waits = asking.iter_mut().map(|asking| async {
        let decided = asking.deciding.as_mut().await;
        (asking.request.stream, decided)
    });
    first_of(waits).await
}

/// Waits until a show has something that its player has not seen.
async fn wait_for_news(viewings: &[Viewing]) {
    first_of(viewings.iter().map(Viewing::news)).await;
}

/// Waits for the first of `waits`. Nearly every connection has one, which costs nothing more.
async fn first_of<T>(mut waits: impl ExactSizeIterator<Item = impl Future<Output = T>>) -> T {
    match waits.len() {
        0 => std::future::pending().await,
        1 => match waits.next() {
            Some(only) => only.await,
            None => std::future::pending().await,
        },
        _ => futures_util::future::select_all(waits.map(Box::pin)).await.0,
    }
}
