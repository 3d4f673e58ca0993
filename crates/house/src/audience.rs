//! Who watches, how many may, and what the uplink still carries: platforms come first.

use std::collections::HashMap;
use std::hash::{BuildHasher, RandomState};
use std::net::IpAddr;
use std::sync::Arc;
use std::time::Instant;

use parking_lot::Mutex;
use time::OffsetDateTime;
use tokio_util::sync::CancellationToken;
use waverant_net::caller_of;
use waverant_relay::{
    Admission, ChannelRules, Crowd, KeyHold, Newcomer, NoRoom, Room, TurnAwayReason, ViewerCounts, ViewerId,
    ViewingLink, Way,
};
use waverant_show::Stay;
use waverant_store::ViewerMinute;

/// How many minutes of channels wait for the database, at most.
const MAX_WAITING: usize = 20_000;

/// What a stream counts for of which nobody knows yet what it takes, in bits per second.
const USUAL_STREAM_BPS: f64 = 5_000_000.0;

/// What limits the audience of a house.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct AudienceLimits {
    /// Viewers of all channels.
    pub viewers: u32,
    /// What the uplink carries; None if nobody said.
    pub uplink_bps: Option<u64>,
}

/// Somebody who wants to watch.
#[derive(Clone, Copy, Debug)]
pub struct Spectator<'a> {
    /// Where it calls from.
    pub address: IpAddr,
    /// What it calls itself.
    pub program: &'a str,
    /// The link by which it comes.
    pub link: Option<&'a ViewingLink>,
    /// How it watches.
    pub way: Way,
}

/// The uplink at one moment, in bits per second.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct UplinkLoad {
    /// What it carries.
    pub carries_bps: u64,
    /// What platforms are sent, or will be once they are dialed.
    pub legs_bps: f64,
    /// What viewers are sent.
    pub viewers_bps: f64,
}

/// What shows need of the uplink.
#[derive(Debug, Default)]
pub(crate) struct Load {
    legs_bps: f64,
    streams: HashMap<u64, f64>,
}

/// The audience of all channels.
#[derive(Debug)]
pub(crate) struct Audience {
    limits: AudienceLimits,
    seats: Arc<Mutex<Seats>>,
    load: Mutex<Load>,
    /// Another one after each start: what it makes of an address cannot be led back.
    hasher: RandomState,
    waiting: Mutex<Vec<ViewerMinute>>,
}

#[derive(Debug, Default)]
struct Seats {
    crowd: Crowd,
    /// Those that are told when they lose their seat.
    held: HashMap<ViewerId, CancellationToken>,
    /// Those that came by a key, with what stands for their device.
    by_key: HashMap<u64, Vec<(ViewerId, u64)>>,
}

/// A viewer's seat, for as long as it stays connected; given back when dropped.
#[derive(Debug)]
pub struct ViewerSeat {
    id: ViewerId,
    seats: Arc<Mutex<Seats>>,
    /// The channel that is watched.
    pub channel_id: u64,
    /// How.
    pub way: Way,
    /// Cancelled when the same device came again and took the seat.
    pub lost: CancellationToken,
    /// The viewing key by which it came, if by one.
    pub hold: Option<KeyHold>,
    /// How long it may stay, if another system of the house said something about that.
    pub stay: Option<Arc<Stay>>,
}

impl Drop for ViewerSeat {
    fn drop(&mut self) {
        let mut seats = self.seats.lock();
        seats.held.remove(&self.id);
        seats.crowd.leave(self.id);
        if let Some(hold) = self.hold {
            seats.leave_key(hold.key_id, self.id);
        }
    }
}

impl Seats {
    /// A seat by a key that is for so many at once. A device that comes again takes the place of what it left there.
    fn enter_key(&mut self, key: &Admission, id: ViewerId, device: u64) -> bool {
        let Some(hold) = key.hold else { return true };
        let holders = self.by_key.entry(hold.key_id).or_default();
        let is_full =
            key.most_connections.is_some_and(|most| holders.len() >= usize::try_from(most).unwrap_or(usize::MAX));
        let again = holders.iter().position(|(_, of)| *of == device).filter(|_| is_full);
        if is_full && again.is_none() {
            return false;
        }
        let former = again.map(|place| holders.swap_remove(place).0);
        holders.push((id, device));
        if let Some(lost) = former.and_then(|former| self.held.remove(&former)) {
            lost.cancel();
        }
        true
    }

    fn leave_key(&mut self, key: u64, id: ViewerId) {
        let Some(holders) = self.by_key.get_mut(&key) else { return };
        holders.retain(|(holder, _)| *holder != id);
        if holders.is_empty() {
            self.by_key.remove(&key);
        }
    }
}

impl Audience {
    pub(crate) fn new(limits: AudienceLimits) -> Self {
        Self {
            limits,
            seats: Arc::default(),
            load: Mutex::default(),
            hasher: RandomState::new(),
            waiting: Mutex::default(),
        }
    }

    /// A seat for somebody who stays connected.
    pub(crate) fn seat(&self, rules: &ChannelRules, spectator: &Spectator<'_>) -> Result<ViewerSeat, NoRoom> {
        let (id, lost) = self.enter(rules, spectator)?;
        let (channel_id, way) = (rules.id, spectator.way);
        Ok(ViewerSeat { id, seats: self.seats.clone(), channel_id, way, lost, hold: None, stay: None })
    }

    /// A seat for somebody who came by a viewing key.
    pub(crate) fn seat_by_key(
        &self,
        rules: &ChannelRules,
        spectator: &Spectator<'_>,
        key: &Admission,
    ) -> Result<ViewerSeat, TurnAwayReason> {
        let mut seat = self.seat(rules, spectator).map_err(TurnAwayReason::NoSeat)?;
        let device = self.newcomer(rules.id, spectator).device;
        if !self.seats.lock().enter_key(key, seat.id, device) {
            return Err(TurnAwayReason::KeyInUse);
        }
        seat.hold = key.hold;
        Ok(seat)
    }

    /// How many are connected that came by a viewing key.
    pub(crate) fn players_by_key(&self, key: u64) -> usize {
        self.seats.lock().by_key.get(&key).map_or(0, Vec::len)
    }

    /// True if somebody would get a seat now.
    pub(crate) fn has_seat_for(&self, rules: &ChannelRules, spectator: &Spectator<'_>) -> bool {
        let newcomer = self.newcomer(rules.id, spectator);
        let seats = self.seats.lock();
        let room = self.room(&seats.crowd, rules, spectator.link);
        seats.crowd.would_seat(newcomer, &room)
    }

    /// What is asked of the crowd as it is now.
    pub(crate) fn with_crowd<T>(&self, look: impl FnOnce(&mut Crowd) -> T) -> T {
        look(&mut self.seats.lock().crowd)
    }

    /// What the uplink carries now; none if nobody said what it can.
    pub(crate) fn uplink(&self) -> Option<UplinkLoad> {
        let carries_bps = self.limits.uplink_bps?;
        let seats = self.seats.lock();
        let load = self.load.lock();
        Some(UplinkLoad { carries_bps, legs_bps: load.legs_bps, viewers_bps: load.viewers_bps(&seats.crowd) })
    }

    /// What a channel's stream takes now, or took before where nothing has come of it yet.
    pub(crate) fn known_bps(&self, channel: u64, now_bps: f64) -> f64 {
        let before = || self.load.lock().streams.get(&channel).copied().unwrap_or(0.0);
        if now_bps > 0.0 { now_bps } else { before() }
    }

    /// Channels that are not on air, or of which nothing has come yet, are taken for what they were: who waits for
    /// their next show is counted.
    pub(crate) fn set_load(&self, new: Load) {
        let mut load = self.load.lock();
        load.legs_bps = new.legs_bps;
        load.streams.extend(new.streams.into_iter().filter(|(_, stream_bps)| *stream_bps > 0.0));
    }

    /// What is to be written.
    pub(crate) fn take_minutes(&self) -> Vec<ViewerMinute> {
        std::mem::take(&mut *self.waiting.lock())
    }

    /// What could not be written waits again.
    pub(crate) fn put_back(&self, minutes: Vec<ViewerMinute>) {
        self.waiting.lock().extend(minutes);
    }

    fn newcomer(&self, channel: u64, spectator: &Spectator<'_>) -> Newcomer {
        let address = caller_of(spectator.address);
        Newcomer {
            channel,
            link: spectator.link.map(|link| link.id),
            address: self.hasher.hash_one(address),
            device: self.hasher.hash_one((address, spectator.program)),
            way: spectator.way,
        }
    }

    fn room(&self, crowd: &Crowd, rules: &ChannelRules, link: Option<&ViewingLink>) -> Room {
        Room {
            link: link.and_then(|link| link.most_viewers),
            channel: rules.viewing.most_viewers,
            house: self.limits.viewers,
            uplink: self.limits.uplink_bps.map(|carries_bps| {
                let load = self.load.lock();
                Room::viewers_of(carries_bps, load.legs_bps + load.viewers_bps(crowd), load.stream_bps(rules.id))
            }),
        }
    }

    pub(crate) fn enter(
        &self,
        rules: &ChannelRules,
        spectator: &Spectator<'_>,
    ) -> Result<(ViewerId, CancellationToken), NoRoom> {
        let newcomer = self.newcomer(rules.id, spectator);
        let mut seats = self.seats.lock();
        let room = |crowd: &Crowd| self.room(crowd, rules, spectator.link);
        let seated = seats.crowd.enter(Instant::now(), newcomer, room)?;
        if let Some(lost) = seated.replaced.and_then(|id| seats.held.remove(&id)) {
            lost.cancel();
        }
        let lost = CancellationToken::new();
        if spectator.way != Way::Segments {
            seats.held.insert(seated.id, lost.clone());
        }
        Ok((seated.id, lost))
    }

    /// Puts what the last minute was into what is to be written.
    pub(crate) fn end_minute(&self, now: OffsetDateTime) {
        let peaks = self.seats.lock().crowd.take_peaks();
        let minute = now.replace_second(0).and_then(|now| now.replace_nanosecond(0)).unwrap_or(now);
        let mut waiting = self.waiting.lock();
        waiting.extend(peaks.into_iter().map(|(channel_id, counts)| ViewerMinute { channel_id, minute, counts }));
        let beyond = waiting.len().saturating_sub(MAX_WAITING);
        waiting.drain(..beyond);
    }
}

impl Load {
    /// Counts a channel's stream that goes to so many legs.
    pub(crate) fn add(&mut self, channel: u64, stream_bps: f64, legs: usize) {
        self.legs_bps += stream_bps * f64::from(u32::try_from(legs).unwrap_or(u32::MAX));
        *self.streams.entry(channel).or_default() += stream_bps;
    }

    fn stream_bps(&self, channel: u64) -> f64 {
        self.streams.get(&channel).copied().unwrap_or(USUAL_STREAM_BPS)
    }

    fn viewers_bps(&self, crowd: &Crowd) -> f64 {
        let of = |(channel, counts): (u64, ViewerCounts)| self.stream_bps(channel) * f64::from(counts.total());
        crowd.channels().map(of).sum()
    }
}

#[cfg(test)]
mod tests {
    use waverant_relay::{GateChannel, Opener, Protocol};

    use super::*;

    fn admission(most_connections: Option<u32>) -> Admission {
        Admission {
            channel: GateChannel { id: 1, name: "finish-line".to_owned() },
            hold: Some(KeyHold { key_id: 7, until: None }),
            opener: Opener::Key(7),
            most_connections,
            protocol: Protocol::Srt,
            key_rank: 0,
            key_label: "mixer".to_owned(),
            key_prefix: "abcdefg".to_owned(),
            stream_name: String::new(),
            finding: None,
        }
    }

    #[test]
    fn a_viewing_key_is_for_so_many_devices() {
        let audience = Audience::new(AudienceLimits { viewers: 100, uplink_bps: None });
        let rules = ChannelRules::new(1, "finish-line".parse().unwrap());
        let enter = |address: &str, most| {
            let (address, program) = (address.parse().unwrap(), "abcdefg");
            let spectator = Spectator { address, program, link: None, way: Way::Srt };
            audience.seat_by_key(&rules, &spectator, &admission(most))
        };
        let first = enter("192.0.2.1", Some(2)).unwrap();
        let second = enter("192.0.2.2", Some(2)).unwrap();
        assert_eq!(enter("192.0.2.3", Some(2)).map(drop), Err(TurnAwayReason::KeyInUse));
        assert_eq!(audience.players_by_key(7), 2, "who was turned away is not counted");
        let again = enter("192.0.2.1", Some(2)).unwrap();
        assert!(first.lost.is_cancelled() && !second.lost.is_cancelled(), "it takes its own place");
        drop(first);
        assert_eq!(audience.players_by_key(7), 2);
        drop(second);
        let third = enter("192.0.2.3", Some(2)).unwrap();
        drop((again, third));
        assert_eq!(audience.players_by_key(7), 0);
        assert!(audience.seats.lock().by_key.is_empty() && audience.seats.lock().held.is_empty());
        let many: Vec<ViewerSeat> = (1..=20).map(|_| enter("192.0.2.1", None).unwrap()).collect();
        assert!(many.iter().all(|seat| !seat.lost.is_cancelled()), "without a number all may");
    }
}
