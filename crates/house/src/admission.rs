//! Who may come in: the keys say so at once, and another system may be asked besides, which takes a while.

use std::borrow::Cow;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::sync::Arc;
use std::time::Instant;

use time::OffsetDateTime;
use waverant_net::caller_of;
use waverant_relay::{
    Admission, Attempt, AwayAttempt, ChannelRules, Comer, GateChannel, KeyRight, KeyUse, LegOrder, NotJoined,
    Occurrence, OccurrenceKind, Opener, Protocol, Standing, TurnAway, TurnAwayReason, Way, printable,
};
use waverant_rtmp::CredentialsAnswer;
use waverant_show::{Publisher, Seat, Show, ShowStart, Steering};

use crate::House;
use crate::addresses::Received;
use crate::audience::{Spectator, ViewerSeat};
use crate::callers::Notice;
use crate::entrance::{Entrance, stay_of, steering_of};
use crate::key_watch::Refusal;

/// What is kept of the words about who was turned away, in characters.
const MAX_DETAIL: usize = 300;

/// What is kept of what an encoder calls itself.
const MAX_ENCODER: usize = 80;

/// What a publisher or player shows at the door.
#[derive(Clone, Copy, Debug)]
pub struct Presented<'a> {
    /// Where it comes from.
    pub peer: SocketAddr,
    /// What it wants to do.
    pub right: KeyRight,
    /// The path part of the address that it dialed.
    pub app: &'a str,
    /// The stream name.
    pub name: &'a str,
    /// The whole address, as it says.
    pub tc_url: &'a str,
    /// Further fields of its protocol in which a key may stand.
    pub others: [&'a str; 2],
    /// By what it came.
    pub protocol: Protocol,
    /// The number of the key that its connection showed by user name and password.
    pub shown_key: Option<u64>,
}

/// Who calls, as far as it is known.
#[derive(Clone, Copy, Debug)]
pub struct DoorCaller<'a> {
    /// Where it comes from.
    pub peer: SocketAddr,
    /// By what it came; none if that is not known.
    pub protocol: Option<Protocol>,
    /// What it calls itself; empty if it did not say.
    pub encoder: &'a str,
}

/// Why a rehearsal cannot begin.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ChannelBusy;

impl House {
    /// Looks for a key in what is presented, and judges it.
    ///
    /// # Errors
    /// [`TurnAway`] with the reason.
    pub fn recognise(&self, presented: &Presented<'_>) -> Result<Admission, TurnAway> {
        let Presented { peer, right, app, name, tc_url, ref others, protocol, shown_key } = *presented;
        let comer = Comer { address: peer.ip(), right, protocol };
        let (directory, now) = (self.directory(), OffsetDateTime::now_utc());
        let gate = directory.gate();
        let decided = match shown_key {
            Some(id) => gate.decide_shown(id, comer, now),
            None => {
                let is_guessing = self.is_guessing(peer.ip());
                let attempt = Attempt { comer, app, name, tc_url, others, is_guessing };
                gate.decide(&attempt, now, |key| self.store.keychain().digest(key))
            }
        };
        let decided = match shown_key {
            // There is no key in it.
            Some(_) => decided.map(|admission| Admission { stream_name: name.to_owned(), ..admission }),
            None => decided,
        };
        let decided = decided.map_err(|away| self.told_if_blocked(away, peer.ip()));
        decided.or_else(|away| if self.was_in_show(&away) { gate.decide_back(away, comer, now) } else { Err(away) })
    }

    /// Who shows nothing that is known and comes from a blocked address hears that.
    fn told_if_blocked(&self, away: TurnAway, address: IpAddr) -> TurnAway {
        match self.addresses.received(address) {
            Received::Blocked(until) if away.key_id.is_none() => TurnAway::of_stranger(TurnAwayReason::Blocked(until)),
            _ => away,
        }
    }

    /// True for an address from which wrong keys come one after the other, whoever else is there.
    pub(crate) fn is_guessing(&self, address: IpAddr) -> bool {
        match self.addresses.received(address) {
            Received::Welcome => false,
            Received::Blocked(_) => true,
            Received::AsAnybody => self.callers.standing(caller_of(address), Instant::now()) == Standing::Rough,
        }
    }

    /// True if the key of somebody who was turned away opened the show that is on.
    fn was_in_show(&self, away: &TurnAway) -> bool {
        let directory = self.directory();
        let Some(key) = away.key_id.and_then(|id| directory.gate().key(id)) else { return false };
        let show = self.shows.lock().get(&key.channel_id).cloned();
        show.is_some_and(|show| show.knows(Opener::Key(key.family)))
    }

    /// Lets a publisher that was judged into a new session, or into one that waits for it. `encoder` is what it calls
    /// itself.
    ///
    /// # Errors
    /// [`TurnAway`] if the channel is busy or gone, or the service stops.
    pub fn let_in(
        self: &Arc<Self>,
        peer: SocketAddr,
        encoder: &str,
        Entrance { mut admission, asked }: Entrance,
    ) -> Result<Seat, TurnAway> {
        admission.finding = admission.finding.map(|finding| printable(&finding, MAX_DETAIL).into_owned());
        let away = |reason| turn_away(&admission, reason);
        if self.stopping().is_cancelled() {
            return Err(away(TurnAwayReason::Stopping));
        }
        let directory = self.directory();
        let rules = directory.channel(admission.channel.id).ok_or_else(|| away(TurnAwayReason::UnknownKey))?;
        // It may have been judged a while ago.
        match admission.hold.map(|hold| directory.gate().key(hold.key_id)) {
            Some(None) => return Err(away(TurnAwayReason::UnknownKey)),
            Some(Some(key)) if key.retired.is_some() => return Err(away(TurnAwayReason::RetiredKey)),
            _ => {}
        }
        self.welcome(peer.ip());
        let encoder = printable(encoder, MAX_ENCODER).into_owned();
        let stay = asked.as_deref().map(stay_of);
        let publisher = Publisher { stay: stay.clone(), ..Publisher::new(&admission, peer, encoder.clone()) };
        let mut shows = self.shows.lock();
        if let Some(show) = shows.get(&rules.id) {
            match show.join(publisher.clone()) {
                Ok(seat) => {
                    drop(shows);
                    self.note_key_use(&admission, peer, encoder);
                    self.ask_again(stay.as_ref(), asked, Some(seat.show()));
                    return Ok(seat);
                }
                Err(NotJoined::Busy) => return Err(away(TurnAwayReason::ChannelBusy)),
                Err(NotJoined::KeyInUse) => return Err(away(TurnAwayReason::KeyInUse)),
                // It ended just now: the publisher begins the next one.
                Err(NotJoined::Over) => {}
            }
        }
        let orders = directory.orders(rules.id).to_vec();
        let start = self.start(rules, publisher, orders, false);
        let steering = asked.as_deref().map(steering_of).unwrap_or_default();
        let begun = Show::begin(&self.surroundings, ShowStart { steering, ..start });
        let (show, seat) = begun.map_err(|_| away(TurnAwayReason::ChannelBusy))?;
        self.shows.put(&mut shows, &show);
        drop(shows);
        self.note_key_use(&admission, peer, encoder);
        self.ask_again(stay.as_ref(), asked, Some(&show));
        Ok(seat)
    }

    /// Somebody of this address is let in: what others did there before keeps nobody out who comes now.
    fn welcome(&self, address: IpAddr) {
        self.acquaintances.note(caller_of(address), Instant::now());
        if self.addresses.release(address) {
            tracing::info!(%address, "somebody with a right key came from a blocked address, and it is released");
        }
    }

    fn note_key_use(&self, admission: &Admission, peer: SocketAddr, encoder: String) {
        let Some(hold) = admission.hold else { return };
        let (used_at, protocol) = (OffsetDateTime::now_utc(), admission.protocol.name());
        let GateChannel { id, name } = &admission.channel;
        let text = format!("{name}: the key “{}” let somebody in from {peer}", admission.key_label);
        let used = Occurrence::new(OccurrenceKind::KeyUsed, used_at, text)
            .in_channel(*id, name)
            .to(format!("key/{}", hold.key_id))
            .with("key", hold.key_id)
            .with("key_label", admission.key_label.as_str())
            .with("address", peer.to_string())
            .with("encoder", encoder.as_str())
            .with("protocol", protocol);
        let (address, protocol) = (peer.to_string(), protocol.to_owned());
        if self.key_watch.note_use(KeyUse { key_id: hold.key_id, used_at, address, encoder, protocol }) {
            self.ledger.tell_others(used);
        }
    }

    /// Begins a session that is fed from here, with legs of its own.
    ///
    /// # Errors
    /// [`ChannelBusy`] if a session is on air, or the service stops.
    pub fn rehearse(&self, rules: &Arc<ChannelRules>, orders: Vec<LegOrder>) -> Result<(Arc<Show>, Seat), ChannelBusy> {
        let mut shows = self.shows.lock();
        if self.stopping().is_cancelled() || shows.get(&rules.id).is_some_and(|show| !show.is_over()) {
            return Err(ChannelBusy);
        }
        let publisher = Publisher {
            opener: Opener::House,
            hold: None,
            stay: None,
            is_alone: false,
            rank: 0,
            key_label: "rehearsal".to_owned(),
            peer: SocketAddr::from(([127, 0, 0, 1], 0)),
            encoder: "test picture".to_owned(),
            finding: None,
        };
        let begun = Show::begin(&self.surroundings, self.start(rules, publisher, orders, true));
        let begun = begun.map_err(|_| ChannelBusy)?;
        self.shows.put(&mut shows, &begun.0);
        Ok(begun)
    }

    fn start(
        &self,
        rules: &Arc<ChannelRules>,
        publisher: Publisher,
        orders: Vec<LegOrder>,
        is_rehearsal: bool,
    ) -> ShowStart {
        let (id, started_at) = (self.numbers.next(), OffsetDateTime::now_utc());
        let (rules, steering) = (rules.clone(), Steering::default());
        ShowStart { id, rules, publisher, started_at, orders, steering, is_rehearsal }
    }

    /// A seat in the audience for somebody whose viewing key was judged.
    ///
    /// # Errors
    /// Why there is none.
    pub fn seat_by_key(
        self: &Arc<Self>,
        (peer, player): (SocketAddr, &str),
        Entrance { admission, asked }: &Entrance,
        way: Way,
    ) -> Result<ViewerSeat, TurnAwayReason> {
        let directory = self.directory();
        let rules = directory.channel(admission.channel.id).ok_or(TurnAwayReason::UnknownKey)?;
        if !rules.viewing.ways.has(way) {
            return Err(TurnAwayReason::WayClosed);
        }
        let spectator = Spectator { address: peer.ip(), program: &admission.key_prefix, link: None, way };
        let mut seat = self.audience.seat_by_key(rules, &spectator, admission)?;
        self.addresses.release(peer.ip());
        self.note_key_use(admission, peer, printable(player, MAX_ENCODER).into_owned());
        seat.stay = asked.as_deref().map(stay_of);
        self.ask_again(seat.stay.as_ref(), asked.clone(), None);
        Ok(seat)
    }

    /// Why somebody who plays by a viewing key may not go on, if so.
    pub fn player_fault(&self, seat: &ViewerSeat) -> Option<Cow<'static, str>> {
        if seat.lost.is_cancelled() {
            return Some("Another player with this key took the place.".into());
        }
        let (directory, now) = (self.directory(), OffsetDateTime::now_utc());
        if let Some(fault) = seat.hold.and_then(|hold| directory.gate().key_fault(&hold, now)) {
            return Some(fault.for_player().into());
        }
        if let Some(fault) = seat.stay.as_ref().and_then(|stay| stay.fault(now)) {
            return Some(fault.into());
        }
        let rules = directory.channel(seat.channel_id);
        let is_open = rules.is_none_or(|rules| rules.viewing.ways.has(seat.way));
        (!is_open).then_some("This channel is not watched this way any more.".into())
    }

    /// Salt and opaque text of a challenge for an encoder that shows its key by user name and password.
    pub fn challenge(&self, user: &str) -> (String, String) {
        self.directory().passwords().challenge(user, self.store.keychain(), OffsetDateTime::now_utc())
    }

    /// The number of the key whose password an answer to a challenge shows.
    pub fn check_answer(&self, answer: &CredentialsAnswer) -> Option<u64> {
        self.directory().passwords().check(answer, self.store.keychain(), OffsetDateTime::now_utc())
    }

    /// Notes that something wrong was shown over HTTP.
    pub fn note_wrong_over_http(&self, peer: SocketAddr, reason: TurnAwayReason) {
        self.counts().count(reason.code());
        self.note_wrong_try(peer.ip());
        self.write_turned_away(
            None,
            AwayAttempt {
                at: OffsetDateTime::now_utc(),
                address: Some(caller_of(peer.ip())),
                reason: reason.code().to_owned(),
                detail: reason.to_string(),
                protocol: "http".to_owned(),
                encoder: String::new(),
                key_prefix: None,
                channel_name: None,
            },
        );
    }

    /// Counts a wrong try of an address of which nothing good is known.
    fn note_wrong_try(&self, address: IpAddr) {
        // A proxy on this machine that does not say who calls would have everybody blocked.
        let is_here =
            [IpAddr::V4(Ipv4Addr::LOCALHOST), IpAddr::V6(Ipv6Addr::LOCALHOST)].contains(&address.to_canonical());
        if is_here || self.standing(address) == Standing::Known {
            return;
        }
        if let Some(length) = self.addresses.note_wrong(address) {
            let minutes = length.as_secs() / 60;
            tracing::warn!(%address, minutes, "an address goes on with what is wrong, and is blocked for a time");
        }
    }

    /// Notes who was not let in.
    pub fn note_turned_away(&self, caller: &DoorCaller<'_>, away: &TurnAway, detail: Option<String>) {
        let peer = caller.peer;
        self.counts().count(away.reason.code());
        if let Some(key) = away.key_id {
            let (at, reason) = (OffsetDateTime::now_utc(), away.words());
            self.key_watch.note_refusal(key, Refusal { at, peer, reason });
        }
        let directory = self.directory();
        let channel = away.channel_id.and_then(|id| directory.channel(id));
        let said = detail.unwrap_or_else(|| away.words());
        let said = away.detail().map_or_else(|| said.clone(), |more| format!("{said} ({more})"));
        let detail = printable(&said, MAX_DETAIL).into_owned();
        if away.key_id.is_none() && away.reason.is_wrong_try() {
            self.note_wrong_try(peer.ip());
        }
        // It counts as well: who comes again and again is known by it.
        let notice = self.callers.note(caller_of(peer.ip()), Instant::now());
        log_turned_away(peer, away, &detail, notice);
        self.write_turned_away(
            channel.map(|channel| channel.id),
            AwayAttempt {
                at: OffsetDateTime::now_utc(),
                address: Some(caller_of(peer.ip())),
                reason: away.reason.code().to_owned(),
                detail,
                protocol: caller.protocol.map_or("", Protocol::name).to_owned(),
                encoder: printable(caller.encoder, MAX_ENCODER).into_owned(),
                key_prefix: away.key_prefix.clone(),
                channel_name: channel.map(|channel| channel.name.to_string()),
            },
        );
    }
}

impl House {
    /// Puts somebody who was turned away into the book, and tells others of it.
    fn write_turned_away(&self, channel_id: Option<u64>, attempt: AwayAttempt) {
        if let Some(news) = self.turned_away.news(&attempt, channel_id) {
            self.ledger.tell_others(news);
        }
        self.turned_away.note(attempt);
    }
}

/// Who calls again and again fills no log.
fn log_turned_away(peer: SocketAddr, away: &TurnAway, detail: &str, notice: Notice) {
    let more = match notice {
        Notice::Count => return,
        Notice::Record => "",
        Notice::RecordLast => " (more from this address, or of all, are only counted for some seconds)",
    };
    let (reason, key_prefix) = (away.reason.code(), away.key_prefix.as_deref());
    tracing::warn!(%peer, reason, detail = format!("{detail}{more}"), key_prefix, "turned away");
}

/// Somebody whose key is known and who is not let in.
pub fn turn_away(admission: &Admission, reason: TurnAwayReason) -> TurnAway {
    let key_prefix = Some(admission.key_prefix.clone()).filter(|prefix| !prefix.is_empty());
    let key_id = admission.hold.map(|hold| hold.key_id);
    TurnAway { key_prefix, channel_id: Some(admission.channel.id), key_id, ..TurnAway::of_stranger(reason) }
}
