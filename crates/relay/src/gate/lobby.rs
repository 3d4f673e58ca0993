use std::collections::{BTreeMap, HashMap};
use std::net::IpAddr;
use std::time::{Duration, Instant};

/// Whoever came less than this ago is not the next to make room: a slow but honest encoder needs
/// several round trips until it is let in.
const FRESH: Duration = Duration::from_secs(1);

/// What is known of the address or network that a caller comes from; the better ones stay longer.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Standing {
    /// It is blocked.
    Blocked,
    /// It was turned away again and again just now.
    Rough,
    /// It was turned away just now.
    Suspect,
    /// Nothing is known.
    Stranger,
    /// Somebody from there was let in lately, or it is expected.
    Known,
}

/// A caller's number in the [`Lobby`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct CallerId(u64);

/// Why a caller gets no place, or is not let in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NoPlace {
    /// As many were let in as may be.
    House,
    /// As many from this address were let in as may be.
    Address,
    /// It had to make room for another.
    MadeRoom,
}

/// How many callers there may be.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LobbyLimits {
    /// Callers who are let in.
    pub let_in: usize,
    /// Callers who wait to be let in.
    pub waiting: usize,
    /// Callers of one address, both kinds together.
    pub per_address: usize,
}

/// A place for a caller.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Entered {
    /// The caller's number.
    pub id: CallerId,
    /// Who makes room for it; its connection is to be closed at once.
    pub displaced: Option<CallerId>,
}

#[derive(Debug)]
struct Caller {
    address: IpAddr,
    standing: Standing,
    came_at: Instant,
    /// How far it has come; callers who say nothing make room before those who do.
    progress: u8,
    is_let_in: bool,
}

/// Who has a connection, let in or not. When too many wait, one of them makes room for whoever comes;
/// so no number of callers without a key keeps out one who has it.
///
/// Addresses are those of `caller_of`: an IPv6 network of 64 bits counts as one.
#[derive(Debug)]
pub struct Lobby {
    limits: LobbyLimits,
    last_id: u64,
    callers: BTreeMap<CallerId, Caller>,
    let_in: usize,
    /// Callers by address: all, and those who were not let in.
    counts: HashMap<IpAddr, (usize, usize)>,
}

impl Lobby {
    /// An empty lobby.
    pub fn new(limits: LobbyLimits) -> Self {
        Self { limits, last_id: 0, callers: BTreeMap::new(), let_in: 0, counts: HashMap::new() }
    }

    /// Gives a place to a caller.
    ///
    /// # Errors
    /// [`NoPlace::Address`] if the address has as many who were let in as it may.
    pub fn enter(&mut self, now: Instant, address: IpAddr, standing: Standing) -> Result<Entered, NoPlace> {
        let from_here = self.counts.get(&address).map_or(0, |(all, _)| *all);
        let displaced = if from_here >= self.limits.per_address {
            // Whoever shares an address with many makes room for its own.
            Some(self.who_makes_room(now, Some(address)).ok_or(NoPlace::Address)?)
        } else if self.callers.len() - self.let_in >= self.limits.waiting {
            self.who_makes_room(now, None)
        } else {
            None
        };
        if let Some(displaced) = displaced {
            self.leave(displaced);
        }
        self.last_id += 1;
        let id = CallerId(self.last_id);
        self.callers.insert(id, Caller { address, standing, came_at: now, progress: 0, is_let_in: false });
        let (all, waiting) = self.counts.entry(address).or_default();
        (*all, *waiting) = (*all + 1, *waiting + 1);
        Ok(Entered { id, displaced })
    }

    /// A caller has come further, or not: `progress` counts only upwards.
    pub fn note_progress(&mut self, id: CallerId, progress: u8) {
        if let Some(caller) = self.callers.get_mut(&id) {
            caller.progress = caller.progress.max(progress);
        }
    }

    /// A caller is let in: it makes room for nobody from now on.
    ///
    /// # Errors
    /// [`NoPlace::MadeRoom`] if it did so already, [`NoPlace::House`] if the house is full.
    pub fn let_in(&mut self, id: CallerId) -> Result<(), NoPlace> {
        let caller = self.callers.get(&id).ok_or(NoPlace::MadeRoom)?;
        if !caller.is_let_in && self.let_in >= self.limits.let_in {
            return Err(NoPlace::House);
        }
        self.set_let_in(id, true);
        Ok(())
    }

    /// A caller who was let in has nothing running any more.
    pub fn send_back(&mut self, id: CallerId) {
        self.set_let_in(id, false);
    }

    /// A caller is gone. Harmless if it made room before.
    pub fn leave(&mut self, id: CallerId) {
        let Some(caller) = self.callers.remove(&id) else { return };
        self.let_in -= usize::from(caller.is_let_in);
        if let Some((all, waiting)) = self.counts.get_mut(&caller.address) {
            *all -= 1;
            *waiting -= usize::from(!caller.is_let_in);
            if *all == 0 {
                self.counts.remove(&caller.address);
            }
        }
    }

    /// Callers in all, and those of them who were let in.
    pub fn counts(&self) -> (usize, usize) {
        (self.callers.len(), self.let_in)
    }

    fn set_let_in(&mut self, id: CallerId, is_let_in: bool) {
        let Some(caller) = self.callers.get_mut(&id) else { return };
        if std::mem::replace(&mut caller.is_let_in, is_let_in) == is_let_in {
            return;
        }
        if let Some((_, waiting)) = self.counts.get_mut(&caller.address) {
            if is_let_in { *waiting -= 1 } else { *waiting += 1 }
        }
        if is_let_in { self.let_in += 1 } else { self.let_in -= 1 }
    }

    /// Of those who were not let in: of the worst standing, from the address with the most of
    /// them, not of the last moment, who came the least far, the oldest.
    fn who_makes_room(&self, now: Instant, address: Option<IpAddr>) -> Option<CallerId> {
        let may = |caller: &Caller| !caller.is_let_in && address.is_none_or(|address| caller.address == address);
        let candidates = self.callers.iter().filter(|(_, caller)| may(caller));
        let first = candidates.min_by_key(|(id, caller)| {
            let waiting = self.counts.get(&caller.address).map_or(0, |(_, waiting)| *waiting);
            let is_fresh = now.saturating_duration_since(caller.came_at) < FRESH;
            (caller.standing, std::cmp::Reverse(waiting), is_fresh, caller.progress, **id)
        });
        first.map(|(id, _)| *id)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn address(number: u32) -> IpAddr {
        IpAddr::V4((0x7f00_0000 + number).into())
    }

    #[expect(clippy::disallowed_methods, reason = "one start instant is taken, then only added to")]
    fn start() -> Instant {
        Instant::now()
    }

    fn lobby(let_in: usize, waiting: usize, per_address: usize) -> Lobby {
        Lobby::new(LobbyLimits { let_in, waiting, per_address })
    }

    #[test]
    fn the_address_with_the_most_makes_room() {
        let (mut lobby, now) = (lobby(10, 288, 32), start());
        let honest = lobby.enter(now, address(500), Standing::Stranger).unwrap().id;
        for number in 0..287 {
            assert_eq!(lobby.enter(now, address(number / 32), Standing::Stranger).unwrap().displaced, None);
        }
        let later = now + Duration::from_secs(3);
        for number in 0..250 {
            let entered = lobby.enter(later, address(1000 + number), Standing::Stranger).unwrap();
            assert!(entered.displaced.is_some_and(|displaced| displaced != honest));
        }
        assert_eq!(lobby.let_in(honest), Ok(()));
    }

    #[test]
    fn who_was_let_in_stays_and_who_has_a_name_goes_last() {
        let (mut lobby, now) = (lobby(5, 4, 4), start());
        let ids: Vec<CallerId> = [Standing::Known, Standing::Rough, Standing::Stranger, Standing::Suspect]
            .into_iter()
            .zip(0..)
            .map(|(standing, number)| lobby.enter(now, address(number), standing).unwrap().id)
            .collect();
        let mut gone = Vec::new();
        for number in 10..14 {
            let entered = lobby.enter(now, address(number), Standing::Known).unwrap();
            gone.extend(entered.displaced);
        }
        assert_eq!(gone, [ids[1], ids[3], ids[2], ids[0]]);
        assert_eq!(lobby.let_in(ids[0]), Err(NoPlace::MadeRoom));
        for number in 20..25 {
            let entered = lobby.enter(now, address(number), Standing::Stranger).unwrap();
            assert_eq!(lobby.let_in(entered.id), Ok(()));
            assert_eq!(lobby.let_in(entered.id), Ok(()), "again");
        }
        let late = lobby.enter(now, address(30), Standing::Known).unwrap();
        assert_eq!(lobby.let_in(late.id), Err(NoPlace::House));
    }

    #[test]
    fn a_full_address_makes_room_for_its_own() {
        let (mut lobby, now) = (lobby(100, 100, 3), start());
        let other = lobby.enter(now, address(2), Standing::Rough).unwrap().id;
        let ids: Vec<CallerId> = (0..3).map(|_| lobby.enter(now, address(1), Standing::Stranger).unwrap().id).collect();
        assert_eq!(lobby.let_in(ids[0]), Ok(()));
        let later = now + FRESH;
        let entered = lobby.enter(later, address(1), Standing::Stranger).unwrap();
        assert_eq!(entered.displaced, Some(ids[1]));
        assert_eq!((lobby.let_in(ids[2]), lobby.let_in(entered.id)), (Ok(()), Ok(())));
        assert_eq!(lobby.enter(later, address(1), Standing::Known), Err(NoPlace::Address));
        lobby.send_back(ids[2]);
        assert_eq!(lobby.enter(later, address(1), Standing::Stranger).unwrap().displaced, Some(ids[2]));
        lobby.leave(other);
        assert_eq!(lobby.counts(), (3, 2));
    }

    #[test]
    fn the_silent_go_before_those_who_came_further_and_the_newest_last() {
        let (mut lobby, now) = (lobby(3, 3, 3), start());
        let speaking = lobby.enter(now, address(1), Standing::Stranger).unwrap().id;
        let silent = lobby.enter(now, address(2), Standing::Stranger).unwrap().id;
        lobby.note_progress(speaking, 2);
        let later = now + FRESH;
        let new = lobby.enter(later, address(3), Standing::Stranger).unwrap().id;
        assert_eq!(lobby.enter(later, address(4), Standing::Stranger).unwrap().displaced, Some(silent));
        assert_eq!(lobby.enter(later, address(5), Standing::Stranger).unwrap().displaced, Some(speaking));
        assert_eq!(lobby.enter(later, address(6), Standing::Stranger).unwrap().displaced, Some(new));
    }

    proptest! {
        /// Whatever happens: never more than there are places, nobody who was let in is displaced,
        /// and the counts are those of the callers.
        #[test]
        fn counts_hold(moves in proptest::collection::vec((0u8..5, 0u32..6, 0usize..20), 0..200)) {
            let (mut lobby, mut now) = (lobby(4, 8, 4), start());
            let mut ids = Vec::new();
            for (kind, from, which) in moves {
                now += Duration::from_millis(200);
                let known = ids.get(which).copied();
                match (kind, known) {
                    (0 | 1, _) => {
                        let before: Vec<CallerId> =
                            lobby.callers.iter().filter(|(_, caller)| caller.is_let_in).map(|(id, _)| *id).collect();
                        if let Ok(entered) = lobby.enter(now, address(from), Standing::Stranger) {
                            prop_assert!(entered.displaced.is_none_or(|displaced| !before.contains(&displaced)));
                            ids.push(entered.id);
                        }
                    }
                    (2, Some(id)) => prop_assert_eq!(
                        lobby.let_in(id) == Err(NoPlace::MadeRoom),
                        !lobby.callers.contains_key(&id)
                    ),
                    (3, Some(id)) => lobby.send_back(id),
                    (_, Some(id)) => lobby.leave(id),
                    _ => {}
                }
                let let_in = lobby.callers.values().filter(|caller| caller.is_let_in).count();
                prop_assert_eq!(lobby.let_in, let_in);
                prop_assert!(let_in <= 4 && lobby.callers.len() <= 8 + 4);
                for (address, (all, waiting)) in &lobby.counts {
                    let of = |only_waiting: bool| lobby.callers.values().filter(|caller| {
                        caller.address == *address && !(only_waiting && caller.is_let_in)
                    }).count();
                    prop_assert_eq!((*all, *waiting), (of(false), of(true)));
                    prop_assert!(*all <= 4);
                }
            }
        }
    }
}
