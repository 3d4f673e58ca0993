use std::collections::{HashMap, HashSet};
use std::hash::Hash;
use std::net::IpAddr;
use std::time::{Duration, Instant};

/// Wrong guesses that one address may make at once, and how long until it may make one more.
const ADDRESS_BURST: u32 = 5;
const ADDRESS_PAUSE: Duration = Duration::from_secs(12);

/// The same for one name, of addresses that guessed wrong before.
const NAME_BURST: u32 = 10;
const NAME_PAUSE: Duration = Duration::from_secs(6);

/// The same for the second factor of one person. Only who knows the password comes so far, and there are but a million
/// codes: at this pace it takes years to meet one.
const CODE_BURST: u32 = 5;
const CODE_PAUSE: Duration = Duration::from_secs(300);

/// Addresses and names that are kept in mind, each; those who are over it make room.
const MAX_TALLIES: usize = 4096;

/// Pairs of address and name that were right once.
const MAX_TRUSTED: usize = 1024;

/// The longest name that is kept in mind, in bytes.
const MAX_NAME: usize = 64;

/// Slows guessing down, by address and by name, without keeping out who knows: an address that has
/// not guessed wrong is never asked to wait for what others do to the name, and neither is one
/// from which the name was signed in before.
#[derive(Debug, Default)]
pub struct Guesses {
    by_address: Tallies<IpAddr>,
    by_name: Tallies<String>,
    by_person: Tallies<u64>,
    trusted: HashSet<(IpAddr, String)>,
}

/// Wrong guesses that are not forgotten yet; one is forgotten each time the pause is over.
#[derive(Debug)]
struct Tallies<K>(HashMap<K, Tally>);

#[derive(Clone, Copy, Debug)]
struct Tally {
    count: u32,
    since: Instant,
}

impl<K> Default for Tallies<K> {
    fn default() -> Self {
        Self(HashMap::new())
    }
}

impl Tally {
    fn now(self, now: Instant, pause: Duration) -> Self {
        let over = now.saturating_duration_since(self.since).as_millis() / pause.as_millis();
        let over = u32::try_from(over).unwrap_or(u32::MAX).min(self.count);
        Self { count: self.count - over, since: self.since + pause * over }
    }
}

impl<K: Eq + Hash> Tallies<K> {
    fn count<Q: Eq + Hash + ?Sized>(&self, key: &Q, now: Instant, pause: Duration) -> Option<Tally>
    where
        K: std::borrow::Borrow<Q>,
    {
        self.0.get(key).map(|tally| tally.now(now, pause)).filter(|tally| tally.count > 0)
    }

    fn add(&mut self, key: K, now: Instant, pause: Duration) {
        if self.0.len() >= MAX_TALLIES && !self.0.contains_key(&key) {
            self.0.retain(|_, tally| tally.now(now, pause).count > 0);
            if self.0.len() >= MAX_TALLIES {
                self.0.clear();
            }
        }
        let tally = self.0.entry(key).or_insert(Tally { count: 0, since: now });
        let current = tally.now(now, pause);
        let since = if current.count == 0 { now } else { current.since };
        *tally = Tally { count: current.count.saturating_add(1), since };
    }
}

impl Guesses {
    /// How long a caller of `address` has to wait before it may try `name`; none if it may at once.
    pub fn must_wait(&self, now: Instant, address: IpAddr, name: &str) -> Option<Duration> {
        let name = cut(name);
        let own = self.by_address.count(&address, now, ADDRESS_PAUSE)?;
        let left = |tally: Tally, pause: Duration| (tally.since + pause).saturating_duration_since(now);
        if own.count >= ADDRESS_BURST {
            return Some(left(own, ADDRESS_PAUSE));
        }
        if self.trusted.contains(&(address, name.to_owned())) {
            return None;
        }
        let named = self.by_name.count(name, now, NAME_PAUSE)?;
        (named.count >= NAME_BURST).then(|| left(named, NAME_PAUSE))
    }

    /// True if something wrong was guessed from `address` lately, and this name was never signed in from there.
    pub fn has_guessed(&self, now: Instant, address: IpAddr, name: &str) -> bool {
        let is_trusted = self.trusted.contains(&(address, cut(name).to_owned()));
        !is_trusted && self.by_address.count(&address, now, ADDRESS_PAUSE).is_some()
    }

    /// Counts a code of a person's second factor as wrong, before it is looked at, unless there were too many: how long
    /// that person has to wait then.
    pub fn try_code(&mut self, now: Instant, person: u64) -> Option<Duration> {
        let tally = self.by_person.count(&person, now, CODE_PAUSE);
        if let Some(tally) = tally.filter(|tally| tally.count >= CODE_BURST) {
            return Some((tally.since + CODE_PAUSE).saturating_duration_since(now));
        }
        self.by_person.add(person, now, CODE_PAUSE);
        None
    }

    /// The code that was counted was right, or could not be looked at.
    pub fn forgive_code(&mut self, person: u64) {
        if let Some(tally) = self.by_person.0.get_mut(&person) {
            tally.count = tally.count.saturating_sub(1);
        }
    }

    /// A guess was wrong. Call it before the work, and [`right`](Self::right) if it was not: so who
    /// asks many times at once gains nothing.
    pub fn wrong(&mut self, now: Instant, address: IpAddr, name: &str) {
        self.by_address.add(address, now, ADDRESS_PAUSE);
        self.by_name.add(cut(name).to_owned(), now, NAME_PAUSE);
    }

    /// A guess that was counted as [`wrong`](Self::wrong) could not be looked at.
    pub fn forgive(&mut self, address: IpAddr, name: &str) {
        for tally in [self.by_address.0.get_mut(&address), self.by_name.0.get_mut(cut(name))].into_iter().flatten() {
            tally.count = tally.count.saturating_sub(1);
        }
    }

    /// A guess that was counted as [`wrong`](Self::wrong) was right.
    pub fn right(&mut self, address: IpAddr, name: &str) {
        self.forgive(address, name);
        let name = cut(name).to_owned();
        if self.trusted.len() >= MAX_TRUSTED {
            self.trusted.clear();
        }
        self.trusted.insert((address, name));
    }
}

fn cut(name: &str) -> &str {
    &name[..name.floor_char_boundary(MAX_NAME)]
}

#[cfg(test)]
mod tests {
    use super::*;

    fn address(number: u32) -> IpAddr {
        IpAddr::V4((0x7f00_0000 + number).into())
    }

    #[expect(clippy::disallowed_methods, reason = "one start instant is taken, then only added to")]
    fn start() -> Instant {
        Instant::now()
    }

    /// Tries as often as it may for `length`; returns how often that was.
    fn guess(guesses: &mut Guesses, mut now: Instant, length: Duration, from: IpAddr) -> u32 {
        let (end, mut count) = (now + length, 0);
        while now < end {
            match guesses.must_wait(now, from, "harbour") {
                None => {
                    guesses.wrong(now, from, "harbour");
                    count += 1;
                }
                Some(wait) => now += wait.max(Duration::from_millis(1)),
            }
        }
        count
    }

    #[test]
    fn one_address_gets_five_at_once_and_five_a_minute() {
        let (mut guesses, now) = (Guesses::default(), start());
        assert_eq!(guess(&mut guesses, now, Duration::from_secs(5), address(1)), 5);
        assert_eq!(guess(&mut guesses, now + Duration::from_secs(5), Duration::from_secs(600), address(1)), 50);
    }

    #[test]
    fn many_addresses_are_slowed_by_the_name_and_who_knows_it_is_not() {
        let (mut guesses, now) = (Guesses::default(), start());
        guesses.wrong(now, address(5000), "harbour");
        guesses.right(address(5000), "harbour");
        let mut count = 0;
        for round in 0..10 {
            for number in 0..200 {
                if guesses.must_wait(now, address(number), "harbour").is_none() {
                    guesses.wrong(now, address(number), "harbour");
                    count += 1;
                }
            }
            assert_eq!(count, 200, "round {round}: one each, and no more");
        }
        assert_eq!(guesses.must_wait(now, address(6000), "harbour"), None, "a person at a new address");
        guesses.wrong(now, address(5000), "harbour");
        assert_eq!(guesses.must_wait(now, address(5000), "harbour"), None, "a person known here mistyped once");
        assert!(guesses.must_wait(now, address(3), "harbour").is_some());
        assert_eq!(guesses.must_wait(now, address(3), "coxswain"), None, "another name");
    }

    #[test]
    fn what_is_kept_in_mind_is_bounded() {
        let (mut guesses, now) = (Guesses::default(), start());
        for number in 0..20_000 {
            guesses.wrong(now, address(number), &format!("{number}{}", "x".repeat(10_000)));
            guesses.right(address(number), &number.to_string());
        }
        assert!(guesses.by_address.0.len() <= MAX_TALLIES && guesses.by_name.0.len() <= MAX_TALLIES);
        assert!(guesses.trusted.len() <= MAX_TRUSTED);
        assert!(guesses.by_name.0.keys().all(|name| name.len() <= MAX_NAME));
    }

    #[test]
    fn codes_of_one_person_are_guessed_slowly_from_wherever() {
        let (mut guesses, now) = (Guesses::default(), start());
        assert!((0..CODE_BURST).all(|_| guesses.try_code(now, 7).is_none()));
        assert_eq!(guesses.try_code(now, 7), Some(CODE_PAUSE));
        assert_eq!(guesses.try_code(now, 8), None, "others are not kept waiting");
        guesses.forgive_code(7);
        assert_eq!(guesses.try_code(now, 7), None, "what was right does not count");
        let day = (0..24 * 3600).filter(|second| guesses.try_code(now + Duration::from_secs(*second), 7).is_none());
        assert!(day.count() <= 288);
    }
}
