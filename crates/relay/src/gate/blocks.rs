use std::collections::HashMap;
use std::net::IpAddr;
use std::time::{Duration, Instant};

/// So many wrong tries that are not forgotten yet block an address; one is forgotten each time the pause is over. An
/// encoder that tries again every ten seconds with a wrong key is never blocked.
const MOST_TRIES: u32 = 60;
const PAUSE: Duration = Duration::from_secs(10);

/// How long an address is blocked first; each further time four times as long.
const FIRST: Duration = Duration::from_secs(600);
const LONGEST: Duration = Duration::from_secs(24 * 3600);

/// How long it is remembered that an address was blocked.
const REMEMBERED: Duration = Duration::from_secs(24 * 3600);

/// Addresses whose tries are counted, and addresses that are blocked or were; the least of them make room.
const MAX_TALLIES: usize = 4096;
const MAX_BLOCKS: usize = 1000;

/// From a blocked address so many callers are heard in a second: among them who has a right key gets through.
const HEARD_PER_SECOND: u32 = 500;

/// Addresses from which too many wrong keys, passwords or tokens came. Its memory is bounded whoever comes.
#[derive(Debug, Default)]
pub struct Blocks {
    tallies: HashMap<IpAddr, Tally>,
    blocks: HashMap<IpAddr, AddressBlock>,
}

#[derive(Clone, Copy, Debug)]
struct Tally {
    count: u32,
    since: Instant,
}

/// An address that is blocked for a time, or was.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct AddressBlock {
    /// Since when.
    pub since: Instant,
    /// Until when.
    pub until: Instant,
    /// How often it was blocked, this time among them.
    pub times: u32,
    /// Wrong tries since it is blocked.
    pub tries: u64,
    heard: (Instant, u32),
}

impl Tally {
    fn now(self, now: Instant) -> Self {
        let over = now.saturating_duration_since(self.since).as_millis() / PAUSE.as_millis();
        let over = u32::try_from(over).unwrap_or(u32::MAX).min(self.count);
        Self { count: self.count - over, since: self.since + PAUSE * over }
    }
}

impl AddressBlock {
    /// True while it is blocked.
    pub fn holds(&self, now: Instant) -> bool {
        now < self.until
    }
}

impl Blocks {
    /// Counts a wrong try. Says for how long the address is blocked, if it is from now on.
    pub fn note(&mut self, address: IpAddr, now: Instant) -> Option<Duration> {
        if let Some(block) = self.blocks.get_mut(&address).filter(|block| block.holds(now)) {
            block.tries += 1;
            return None;
        }
        self.make_room_for_tally(address, now);
        let tally = self.tallies.entry(address).or_insert(Tally { count: 0, since: now });
        let current = tally.now(now);
        let since = if current.count == 0 { now } else { current.since };
        *tally = Tally { count: current.count + 1, since };
        if tally.count <= MOST_TRIES {
            return None;
        }
        self.tallies.remove(&address);
        Some(self.block(address, now))
    }

    fn block(&mut self, address: IpAddr, now: Instant) -> Duration {
        let before = self.blocks.get(&address).filter(|block| now < block.until + REMEMBERED);
        let times = before.map_or(1, |block| block.times.saturating_add(1));
        let length = (1..times).fold(FIRST, |length, _| (length * 4).min(LONGEST));
        if self.blocks.len() >= MAX_BLOCKS && !self.blocks.contains_key(&address) {
            self.blocks.retain(|_, block| now < block.until + REMEMBERED);
            if self.blocks.len() >= MAX_BLOCKS {
                let first = self.blocks.iter().min_by_key(|(_, block)| block.until).map(|(address, _)| *address);
                first.map(|address| self.blocks.remove(&address));
            }
        }
        let block = AddressBlock { since: now, until: now + length, times, tries: 0, heard: (now, 0) };
        self.blocks.insert(address, block);
        length
    }

    /// Those with the fewest tries go first, all that have as few: so a flood of addresses is not paid for by each.
    fn make_room_for_tally(&mut self, address: IpAddr, now: Instant) {
        if self.tallies.len() < MAX_TALLIES || self.tallies.contains_key(&address) {
            return;
        }
        let mut fewest = 1;
        while self.tallies.len() >= MAX_TALLIES {
            self.tallies.retain(|_, tally| tally.now(now).count > fewest);
            fewest *= 2;
        }
    }

    /// The block that holds for an address.
    pub fn block_of(&self, address: IpAddr, now: Instant) -> Option<&AddressBlock> {
        self.blocks.get(&address).filter(|block| block.holds(now))
    }

    /// Whether a caller of an address is heard: one of a blocked address only so often in a second.
    pub fn hears(&mut self, address: IpAddr, now: Instant) -> bool {
        let Some(block) = self.blocks.get_mut(&address).filter(|block| block.holds(now)) else { return true };
        let (since, count) = &mut block.heard;
        if now.saturating_duration_since(*since) >= Duration::from_secs(1) {
            (*since, *count) = (now, 0);
        }
        *count = count.saturating_add(1);
        *count <= HEARD_PER_SECOND
    }

    /// Ends the block of an address, and forgets what was counted of it. True if it was blocked.
    pub fn release(&mut self, address: IpAddr, now: Instant) -> bool {
        self.tallies.remove(&address);
        self.blocks.remove(&address).is_some_and(|block| block.holds(now))
    }

    /// All blocks that hold, the newest first.
    pub fn held(&self, now: Instant) -> Vec<(IpAddr, AddressBlock)> {
        let mut held: Vec<(IpAddr, AddressBlock)> =
            self.blocks.iter().map(|(address, block)| (*address, *block)).collect();
        held.retain(|(_, block)| block.holds(now));
        held.sort_by_key(|(address, block)| (std::cmp::Reverse(block.since), *address));
        held
    }
}

#[cfg(test)]
#[expect(clippy::disallowed_methods, reason = "one start instant is taken, then only added to")]
mod tests {
    use super::*;

    fn address(number: u32) -> IpAddr {
        IpAddr::V4(number.into())
    }

    /// Tries wrongly until it is blocked.
    fn go_on(blocks: &mut Blocks, from: IpAddr, now: Instant) -> Duration {
        (0..=MOST_TRIES).find_map(|_| blocks.note(from, now)).unwrap()
    }

    #[test]
    fn who_goes_on_is_blocked_longer_each_time() {
        let (mut blocks, mut now) = (Blocks::default(), Instant::now());
        for minutes in [10, 40, 160, 640, 1440, 1440] {
            let length = Duration::from_secs(60 * minutes);
            assert_eq!(go_on(&mut blocks, address(1), now), length);
            assert!(blocks.block_of(address(1), now).is_some() && blocks.block_of(address(2), now).is_none());
            assert_eq!(blocks.note(address(1), now), None, "it is counted");
            assert_eq!(blocks.held(now)[0].1.tries, 1);
            now += length;
            assert!(blocks.block_of(address(1), now).is_none());
        }
        now += REMEMBERED;
        assert_eq!(go_on(&mut blocks, address(1), now), FIRST, "that is long ago");
    }

    #[test]
    fn an_encoder_with_a_wrong_key_is_not_blocked() {
        let (mut blocks, start) = (Blocks::default(), Instant::now());
        for round in 0..10_000 {
            assert_eq!(blocks.note(address(1), start + PAUSE * round), None);
        }
    }

    #[test]
    fn a_block_is_ended_by_hand() {
        let (mut blocks, now) = (Blocks::default(), Instant::now());
        go_on(&mut blocks, address(1), now);
        assert!(blocks.release(address(1), now) && !blocks.release(address(1), now));
        assert!(blocks.block_of(address(1), now).is_none() && blocks.held(now).is_empty());
        assert_eq!(go_on(&mut blocks, address(1), now), FIRST, "and is forgotten");
    }

    #[test]
    fn of_a_blocked_address_some_are_heard() {
        let (mut blocks, now) = (Blocks::default(), Instant::now());
        assert!((0..1000).all(|_| blocks.hears(address(1), now)));
        go_on(&mut blocks, address(1), now);
        let heard = |blocks: &mut Blocks, now| (0..1000).filter(|_| blocks.hears(address(1), now)).count();
        assert_eq!(heard(&mut blocks, now), HEARD_PER_SECOND as usize);
        assert_eq!(heard(&mut blocks, now + Duration::from_secs(1)), HEARD_PER_SECOND as usize);
    }

    #[test]
    fn a_million_addresses_cost_a_few_places_and_hide_nobody() {
        let (mut blocks, now) = (Blocks::default(), Instant::now());
        (0..MOST_TRIES).for_each(|_| assert_eq!(blocks.note(address(7), now), None));
        for number in 100..1_000_100 {
            assert_eq!(blocks.note(address(number), now), None);
        }
        assert!(blocks.tallies.len() <= MAX_TALLIES);
        assert!(blocks.note(address(7), now).is_some(), "who goes on is not forgotten for those who do not");
        for number in 0..2000u32 {
            go_on(&mut blocks, address(10_000_000 + number), now + Duration::from_secs(number.into()));
        }
        assert_eq!(blocks.blocks.len(), MAX_BLOCKS);
    }
}
