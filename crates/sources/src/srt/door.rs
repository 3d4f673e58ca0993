use std::net::IpAddr;
use std::sync::Arc;
use std::time::Instant;

use waverant_house::{DoorCaller, Entrance, House, Presented, Tuner, Verdict, Wish, turn_away};
use waverant_net::caller_of;
use waverant_relay::{AudioChoice, AudioPickError, KeyRight, Protocol, Standing, TurnAway, TurnAwayReason, Way};
use waverant_srt::{CloseReason, Config, Connection, Message, Mode, RejectReason, Request, Statistics, StreamId};
use waverant_udp::{Decision, Doorkeeper, Onward, Turned, Welcome};

use super::SrtSettings;
use super::guest::{Guest, READING, Watching};
use super::refusal::reject_reason;
use crate::per_address::PerAddress;

/// Judges callers, and moves what they send into shows.
#[derive(Debug)]
pub(super) struct Door {
    house: Arc<House>,
    /// Its own.
    port: u16,
    settings: SrtSettings,
    config: Config,
    per_address: PerAddress,
    guests: usize,
}

impl Door {
    pub(super) fn new(house: Arc<House>, port: u16, settings: SrtSettings, config: Config) -> Self {
        let per_address = PerAddress::new(settings.max_per_address);
        Self { house, port, settings, config, per_address, guests: 0 }
    }

    /// What a caller wants, if there is room and it can be understood.
    fn wish(&self, request: &Request) -> Result<(StreamId, CallerWish), Refused> {
        if request.group().is_some() {
            return Err((TurnAway::of_stranger(TurnAwayReason::NotUnderstood), RejectReason::GROUP));
        }
        if self.guests >= self.settings.max_connections {
            return Err(refused(TurnAway::of_stranger(TurnAwayReason::TooManyConnections)));
        }
        let id = StreamId::parse(request.stream_id().unwrap_or_default())
            .map_err(|_| refused(TurnAway::of_stranger(TurnAwayReason::Malformed)))?;
        let audio = wanted_sound(&id).map_err(|_| refused(TurnAway::of_stranger(TurnAwayReason::Malformed)))?;
        let is_one_show = id.others.iter().any(|(name, wanted)| name == "shows" && wanted == "one");
        let right = match id.mode {
            Some(Mode::Request) => KeyRight::View,
            Some(Mode::Publish) => KeyRight::Publish,
            Some(Mode::Bidirectional) => {
                return Err((TurnAway::of_stranger(TurnAwayReason::NotUnderstood), RejectReason::BAD_MODE));
            }
            // A key alone says by itself what it is for.
            None => match self.house.recognise(&presented(request, &id, KeyRight::Publish)) {
                Err(TurnAway { reason: TurnAwayReason::ViewKey, .. }) => KeyRight::View,
                _ => KeyRight::Publish,
            },
        };
        Ok((id, CallerWish { right, audio, is_one_show }))
    }

    fn let_in(&self, request: &Request, caller: Caller) -> Result<Guest, Refused> {
        let from = request.from();
        let Caller { entrance, wish: CallerWish { right, audio, is_one_show } } = caller;
        if self.guests >= self.settings.max_connections {
            return Err(refused(TurnAway::of_stranger(TurnAwayReason::TooManyConnections)));
        }
        let place = self.per_address.take(caller_of(from.ip()));
        let place = place.ok_or_else(|| refused(TurnAway::of_stranger(TurnAwayReason::TooManyFromAddress)))?;
        let program = program_of(request);
        if right == KeyRight::View {
            let seat = self.house.seat_by_key((from, &program), &entrance, Way::Srt);
            let channel = &entrance.admission.channel;
            let seat = seat.map_err(|reason| refused(turn_away(&entrance.admission, reason)))?;
            tracing::info!(peer = %from, channel = %channel.name, "a player over SRT");
            let wish = Wish { is_one_show, sees_rehearsals: true };
            let tuner = Tuner::new(self.house.clone(), channel.id, wish, READING);
            return Ok(Guest::viewer(Watching::new(tuner, seat, audio), place));
        }
        let seat = self.house.let_in(from, &program, entrance).map_err(refused)?;
        Ok(Guest::publisher(seat, place))
    }

    fn note_turned_away(&self, request: &Request, away: &TurnAway, detail: Option<String>) {
        let encoder = &program_of(request);
        let caller = DoorCaller { peer: request.from(), protocol: Some(Protocol::Srt), encoder };
        self.house.note_turned_away(&caller, away, detail);
    }

    fn note(&self, request: &Request, (away, reason): Refused) -> RejectReason {
        let detail = (reason == RejectReason::GROUP)
            .then(|| "The encoder asks for a group of connections. Switch bonding off in it.".to_owned());
        self.note_turned_away(request, &away, detail);
        reason
    }
}

impl Doorkeeper for Door {
    type Guest = Guest;
    type Pass = Caller;

    fn rank(&self, address: IpAddr) -> u8 {
        match self.house.standing(address) {
            Standing::Blocked | Standing::Rough => 0,
            Standing::Suspect => 1,
            Standing::Stranger => 2,
            Standing::Known => 3,
        }
    }

    fn caller_of(&self, address: IpAddr) -> IpAddr {
        caller_of(address)
    }

    fn judge(&mut self, request: &Request) -> Decision<Caller> {
        self.house.reached().note(false, self.port, request.from().ip());
        let (id, wish) = match self.wish(request) {
            Ok(wished) => wished,
            Err(refused) => return Decision::Now(Err(self.note(request, refused))),
        };
        let program = program_of(request);
        match self.house.ask(&presented(request, &id, wish.right), &program) {
            Verdict::Now(Ok(entrance)) => Decision::Now(welcome(&self.house, &self.config, Caller { entrance, wish })),
            Verdict::Now(Err(away)) => Decision::Now(Err(self.note(request, refused(away)))),
            Verdict::Later(deciding) => {
                let (house, config, peer) = (self.house.clone(), self.config.clone(), request.from());
                Decision::Later(Box::pin(async move {
                    match deciding.await {
                        Ok(entrance) => welcome(&house, &config, Caller { entrance, wish }),
                        Err(away) => {
                            let caller = DoorCaller { peer, protocol: Some(Protocol::Srt), encoder: &program };
                            house.note_turned_away(&caller, &away, None);
                            Err(reject_reason(away.reason))
                        }
                    }
                }))
            }
        }
    }

    fn admit(&mut self, request: &Request, caller: Caller) -> Result<Guest, RejectReason> {
        let guest = self.let_in(request, caller).map_err(|refused| self.note(request, refused))?;
        self.guests += 1;
        Ok(guest)
    }

    fn refused(&mut self, request: &Request, caller: Caller, reason: RejectReason) {
        let why = match reason {
            RejectReason::BAD_SECRET => TurnAwayReason::WrongPassphrase,
            RejectReason::UNSECURE => TurnAwayReason::PassphraseDiffers,
            _ => TurnAwayReason::NotUnderstood,
        };
        // The key was right, or this would not have been asked.
        self.note_turned_away(request, &turn_away(&caller.entrance.admission, why), None);
    }

    fn turned_away(&mut self, turned: Turned) {
        let detail = turned.detail.unwrap_or_else(|| turned.reason.to_string());
        let away = TurnAway::of_stranger(TurnAwayReason::NotUnderstood);
        let caller = DoorCaller { peer: turned.from, protocol: Some(Protocol::Srt), encoder: "" };
        self.house.note_turned_away(&caller, &away, Some(format!("SRT: {detail}")));
    }

    fn message(&mut self, guest: &mut Guest, message: Message<'_>) {
        guest.message(&message);
    }

    fn serve(&mut self, guest: &mut Guest, connection: &mut Connection, now: Instant) -> Onward {
        guest.serve(&self.house, connection, now)
    }

    fn figures(&mut self, guest: &mut Guest, statistics: &Statistics) {
        guest.figures(statistics);
    }

    fn closed(&mut self, guest: Guest, reason: CloseReason) {
        self.guests -= 1;
        guest.close(reason);
    }
}

/// All that a caller over SRT says of itself.
fn program_of(request: &Request) -> String {
    let (major, minor, patch) = request.version();
    format!("SRT {major}.{minor}.{patch}")
}

/// Who calls and may come in, and what it wants.
#[derive(Debug)]
pub(super) struct Caller {
    entrance: Entrance,
    wish: CallerWish,
}

/// What a caller wants.
#[derive(Debug)]
struct CallerWish {
    right: KeyRight,
    audio: AudioChoice,
    /// It wants one show, and then the end.
    is_one_show: bool,
}

/// How the connection of a caller behaves that may come in if it knows the passphrase: that of its key, or the channel's.
fn welcome(house: &House, config: &Config, caller: Caller) -> Result<Welcome<Caller>, RejectReason> {
    let (directory, admission) = (house.directory(), &caller.entrance.admission);
    let rules = directory.channel(admission.channel.id).ok_or(RejectReason::NOT_FOUND)?;
    let own = admission.hold.and_then(|hold| directory.key_passphrase(hold.key_id));
    let (latency, passphrase) = (rules.srt_latency, own.or(rules.passphrase.as_ref()).cloned());
    let takes_data = caller.wish.right == KeyRight::Publish;
    let config = Config { receive_latency: latency, send_latency: latency, passphrase, takes_data, ..config.clone() };
    Ok(Welcome { config, pass: caller })
}

/// Somebody who is not let in: for the turned-away list, and for the caller.
type Refused = (TurnAway, RejectReason);

fn refused(away: TurnAway) -> Refused {
    let reason = reject_reason(away.reason);
    (away, reason)
}

fn presented<'a>(request: &Request, id: &'a StreamId, right: KeyRight) -> Presented<'a> {
    let app = if right == KeyRight::Publish { "in" } else { "out" };
    let field = |text: &'a Option<String>| text.as_deref().unwrap_or_default();
    Presented {
        peer: request.from(),
        right,
        app,
        name: &id.resource,
        tc_url: "",
        // Where some encoders put it.
        others: [field(&id.user), field(&id.session)],
        protocol: Protocol::Srt,
        shown_key: None,
    }
}

/// The sound that a player asks for, as in `sound=language:de`; all where it says nothing.
fn wanted_sound(id: &StreamId) -> Result<AudioChoice, AudioPickError> {
    let wanted = id.others.iter().find(|(name, _)| name == "sound");
    let pick = wanted.map(|(_, wanted)| wanted.parse()).transpose()?;
    Ok(AudioChoice { pick, ..AudioChoice::default() })
}
