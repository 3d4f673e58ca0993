use std::collections::HashMap;

use parking_lot::Mutex;

/// Gives the takes of a session their numbers, whether they are recorded or cut. A recorder asks
/// without the database: the sessions that began in this run are known here from their begin.
#[derive(Debug, Default)]
pub struct TakeNumbers(Mutex<HashMap<u64, u32>>);

impl TakeNumbers {
    /// A session begins; it has no takes yet.
    pub fn begin(&self, session: u64) {
        self.0.lock().entry(session).or_default();
    }

    /// True if nothing has to be read to go on counting.
    pub fn knows(&self, session: u64) -> bool {
        self.0.lock().contains_key(&session)
    }

    /// The session has takes up to this number at least.
    pub fn learn(&self, session: u64, last: u32) {
        let mut numbers = self.0.lock();
        let known = numbers.entry(session).or_default();
        *known = last.max(*known);
    }

    /// The next number.
    pub fn next(&self, session: u64) -> u32 {
        let mut numbers = self.0.lock();
        let last = numbers.entry(session).or_default();
        *last += 1;
        *last
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn recorders_and_cuts_never_get_the_same_number() {
        let numbers = TakeNumbers::default();
        numbers.begin(7);
        assert!(numbers.knows(7) && !numbers.knows(6));
        let mut given: Vec<u32> = std::thread::scope(|scope| {
            let threads: Vec<_> =
                (0..8).map(|_| scope.spawn(|| (0..100).map(|_| numbers.next(7)).collect::<Vec<_>>())).collect();
            threads.into_iter().flat_map(|thread| thread.join().unwrap()).collect()
        });
        given.sort_unstable();
        assert_eq!(given, (1..=800).collect::<Vec<_>>());
        numbers.learn(6, 3);
        numbers.learn(6, 2);
        assert_eq!(numbers.next(6), 4);
    }
}
