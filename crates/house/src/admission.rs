//! Who may come in: the keys say so at once, and another system may be asked besides, which takes a while.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::{Duration, Instant};

use time::OffsetDateTime;
use tokio::time::timeout;
use waverant_net::caller_of;
use waverant_relay::{
    Admission, Attempt, AwayAttempt, ChannelRules, Comer, KeyRight, KeyUse, LegOrder, NotJoined, Opener, Protocol,
    Standing, TurnAway, TurnAwayReason, Way, printable,
};
use waverant_rtmp::CredentialsAnswer;
use waverant_show::{Publisher, Seat, Show, ShowStart};

use crate::House;
use crate::audience::{Spectator, ViewerSeat};
use crate::callers::Notice;
use crate::judge::{Question, Verdict};
use crate::key_watch::Refusal;

/// What is kept of the words about who was turned away, in characters.
const MAX_DETAIL: usize = 300;

/// What is kept of what an encoder calls itself.
const MAX_ENCODER: usize = 80;

/// How long another system may take to decide.
const JUDGE_PATIENCE: Duration = Duration::from_secs(8);

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
    /// Looks for a key in what is presented, and judges it; then asks the house's judge, if there is one.
    pub fn ask(&self, presented: &Presented<'_>) -> Verdict {
        let admission = match self.recognise(presented) {
            Ok(admission) => admission,
            Err(away) => return Verdict::Now(Err(away)),
        };
        let Some(judge) = &self.judge else { return Verdict::Now(Ok(admission)) };
        let (peer, right) = (presented.peer, presented.right);
        let judging = judge.judge(Question { admission: admission.clone(), peer, right });
        Verdict::Later(Box::pin(async move {
            match timeout(JUDGE_PATIENCE, judging).await {
                Ok(None) => Ok(admission),
                Ok(Some(reason)) => Err(turn_away(&admission, reason)),
                Err(_) => Err(turn_away(&admission, TurnAwayReason::Undecided)),
            }
        }))
    }

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
        decided.or_else(|away| if self.was_in_show(&away) { gate.decide_back(away, comer, now) } else { Err(away) })
    }

    /// True for an address from which wrong keys come one after the other, whoever else is there.
    fn is_guessing(&self, address: IpAddr) -> bool {
        self.callers.standing(caller_of(address), Instant::now()) == Standing::Rough
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
    pub fn let_in(&self, peer: SocketAddr, encoder: &str, mut admission: Admission) -> Result<Seat, TurnAway> {
        admission.finding = admission.finding.map(|finding| printable(&finding, MAX_DETAIL).into_owned());
        let away = |reason| turn_away(&admission, reason);
        if self.stopping().is_cancelled() {
            return Err(away(TurnAwayReason::Stopping));
        }
        let directory = self.directory();
        let rules = directory.channel(admission.channel.id).ok_or_else(|| away(TurnAwayReason::UnknownKey))?;
        // It may have been judged a while ago.
        match directory.gate().key(admission.hold.key_id) {
            None => return Err(away(TurnAwayReason::UnknownKey)),
            Some(key) if key.retired.is_some() => return Err(away(TurnAwayReason::RetiredKey)),
            Some(_) => {}
        }
        self.acquaintances.note(caller_of(peer.ip()), Instant::now());
        let encoder = printable(encoder, MAX_ENCODER).into_owned();
        let publisher = Publisher::new(&admission, peer, encoder.clone());
        let mut shows = self.shows.lock();
        if let Some(show) = shows.get(&rules.id) {
            match show.join(publisher.clone()) {
                Ok(seat) => {
                    drop(shows);
                    self.note_key_use(&admission, peer, encoder);
                    return Ok(seat);
                }
                Err(NotJoined::Busy) => return Err(away(TurnAwayReason::ChannelBusy)),
                Err(NotJoined::KeyInUse) => return Err(away(TurnAwayReason::KeyInUse)),
                // It ended just now: the publisher begins the next one.
                Err(NotJoined::Over) => {}
            }
        }
        let orders = directory.orders(rules.id).to_vec();
        let begun = Show::begin(&self.surroundings, self.start(rules, publisher, orders, false));
        let (show, seat) = begun.map_err(|_| away(TurnAwayReason::ChannelBusy))?;
        self.shows.put(&mut shows, &show);
        drop(shows);
        self.note_key_use(&admission, peer, encoder);
        Ok(seat)
    }

    fn note_key_use(&self, admission: &Admission, peer: SocketAddr, encoder: String) {
        self.key_watch.note_use(KeyUse {
            key_id: admission.hold.key_id,
            used_at: OffsetDateTime::now_utc(),
            address: peer.to_string(),
            encoder,
            protocol: admission.protocol.name().to_owned(),
        });
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
        ShowStart { id, rules: rules.clone(), publisher, started_at, orders, is_rehearsal }
    }

    /// A seat in the audience for somebody whose viewing key was judged.
    ///
    /// # Errors
    /// Why there is none.
    pub fn seat_by_key(
        &self,
        (peer, player): (SocketAddr, &str),
        admission: &Admission,
        way: Way,
    ) -> Result<ViewerSeat, TurnAwayReason> {
        let directory = self.directory();
        let rules = directory.channel(admission.channel.id).ok_or(TurnAwayReason::UnknownKey)?;
        if !rules.viewing.ways.has(way) {
            return Err(TurnAwayReason::WayClosed);
        }
        let spectator = Spectator { address: peer.ip(), program: &admission.key_prefix, link: None, way };
        let seat = self.audience.seat_by_key(rules, &spectator, admission)?;
        self.note_key_use(admission, peer, printable(player, MAX_ENCODER).into_owned());
        Ok(seat)
    }

    /// Why somebody who plays by a viewing key may not go on, if so.
    pub fn player_fault(&self, seat: &ViewerSeat) -> Option<&'static str> {
        if seat.lost.is_cancelled() {
            return Some("Another player with this key took the place.");
        }
        let directory = self.directory();
        let fault = seat.hold.and_then(|hold| directory.gate().key_fault(&hold, OffsetDateTime::now_utc()));
        if let Some(fault) = fault {
            return Some(fault.for_player());
        }
        let rules = directory.channel(seat.channel_id);
        let is_open = rules.is_none_or(|rules| rules.viewing.ways.has(seat.way));
        (!is_open).then_some("This channel is not watched this way any more.")
    }

    /// Salt and opaque text of a challenge for an encoder that shows its key by user name and password.
    pub fn challenge(&self, user: &str) -> (String, String) {
        self.directory().passwords().challenge(user, self.store.keychain(), OffsetDateTime::now_utc())
    }

    /// The number of the key whose password an answer to a challenge shows.
    pub fn check_answer(&self, answer: &CredentialsAnswer) -> Option<u64> {
        self.directory().passwords().check(answer, self.store.keychain(), OffsetDateTime::now_utc())
    }

    /// Notes who was not let in.
    pub fn note_turned_away(&self, caller: &DoorCaller<'_>, away: &TurnAway, detail: Option<String>) {
        let peer = caller.peer;
        self.counts().count(away.reason.code());
        if let Some(key) = away.key_id {
            let (at, reason) = (OffsetDateTime::now_utc(), away.reason.to_string());
            self.key_watch.note_refusal(key, Refusal { at, peer, reason });
        }
        let directory = self.directory();
        let channel = away.channel_id.and_then(|id| directory.channel(id));
        let detail = printable(&detail.unwrap_or_else(|| away.reason.to_string()), MAX_DETAIL).into_owned();
        // It counts as well: who comes again and again is known by it.
        let notice = self.callers.note(caller_of(peer.ip()), Instant::now());
        log_turned_away(peer, away, &detail, notice);
        self.turned_away.note(AwayAttempt {
            at: OffsetDateTime::now_utc(),
            address: Some(caller_of(peer.ip())),
            reason: away.reason.code().to_owned(),
            detail,
            protocol: caller.protocol.map_or("", Protocol::name).to_owned(),
            encoder: printable(caller.encoder, MAX_ENCODER).into_owned(),
            key_prefix: away.key_prefix.clone(),
            channel_name: channel.map(|channel| channel.name.to_string()),
        });
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
    let (key_prefix, channel_id) = (Some(admission.key_prefix.clone()), Some(admission.channel.id));
    TurnAway { reason, key_prefix, channel_id, key_id: Some(admission.hold.key_id) }
}
