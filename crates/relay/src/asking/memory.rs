use std::collections::HashMap;
use std::net::IpAddr;
use std::time::{Duration, Instant};

use super::Answer;
use crate::{KeyDigest, KeyRight, Protocol};

/// Answers that are kept at once; those who are over make room, else the one that is over first.
const MOST: usize = 4096;

/// Whose key an answer is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum KeyShown {
    /// The key of this number.
    Known(u64),
    /// One that is not known, by its keyed hash.
    Unknown(KeyDigest),
}

/// What an answer is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Remembered {
    /// The system that gave it.
    pub system: u64,
    /// Whose key.
    pub key: KeyShown,
    /// What it wanted to do.
    pub right: KeyRight,
    /// By what it came.
    pub protocol: Protocol,
    /// Where it came from.
    pub address: IpAddr,
}

/// Answers that may be kept for a time.
#[derive(Debug, Default)]
pub struct AnswerMemory(HashMap<Remembered, (Answer, Instant)>);

impl AnswerMemory {
    /// Keeps an answer for so long.
    pub fn keep(&mut self, about: Remembered, answer: Answer, keep: Duration, now: Instant) {
        if keep.is_zero() {
            self.0.remove(&about);
            return;
        }
        if self.0.len() >= MOST && !self.0.contains_key(&about) {
            self.0.retain(|_, (_, until)| *until > now);
            if self.0.len() >= MOST {
                let first = self.0.iter().min_by_key(|(_, (_, until))| *until).map(|(about, _)| *about);
                first.map(|about| self.0.remove(&about));
            }
        }
        self.0.insert(about, (answer, now + keep));
    }

    /// What was answered, while it holds.
    pub fn answer(&self, about: &Remembered, now: Instant) -> Option<&Answer> {
        self.0.get(about).filter(|(_, until)| *until > now).map(|(answer, _)| answer)
    }

    /// Forgets what a system said: it is another one from now on.
    pub fn forget(&mut self, system: u64) {
        self.0.retain(|about, _| about.system != system);
    }
}

#[cfg(test)]
#[expect(clippy::disallowed_methods, reason = "one start instant is taken, then only added to")]
mod tests {
    use std::net::Ipv4Addr;

    use super::*;

    fn about(number: u64) -> Remembered {
        Remembered {
            system: number % 2,
            key: KeyShown::Known(number),
            right: KeyRight::Publish,
            protocol: Protocol::Srt,
            address: Ipv4Addr::LOCALHOST.into(),
        }
    }

    #[test]
    fn an_answer_holds_as_long_as_it_says_and_for_whom_it_was() {
        let (mut memory, now) = (AnswerMemory::default(), Instant::now());
        let (no, second) = (Answer::Refused(None), Duration::from_secs(1));
        memory.keep(about(1), no.clone(), second, now);
        assert_eq!(memory.answer(&about(1), now), Some(&no));
        let others = [
            about(2),
            Remembered { right: KeyRight::View, ..about(1) },
            Remembered { protocol: Protocol::Rtmp, ..about(1) },
            Remembered { address: Ipv4Addr::BROADCAST.into(), ..about(1) },
            Remembered { key: KeyShown::Unknown([1; 32]), ..about(1) },
        ];
        assert!(others.iter().all(|other| memory.answer(other, now).is_none()));
        assert_eq!(memory.answer(&about(1), now + second), None);
        memory.keep(about(1), no, Duration::ZERO, now);
        assert_eq!(memory.answer(&about(1), now), None, "a newer answer that is not to be kept takes its place");
    }

    #[test]
    fn memory_is_bounded_and_systems_are_forgotten() {
        let (mut memory, now) = (AnswerMemory::default(), Instant::now());
        for number in 0..10_000u64 {
            memory.keep(about(number), Answer::Refused(None), Duration::from_secs(1 + number), now);
        }
        assert_eq!(memory.0.len(), MOST);
        assert!(memory.answer(&about(0), now).is_none() && memory.answer(&about(9_999), now).is_some());
        memory.forget(1);
        assert!(memory.answer(&about(9_999), now).is_none() && memory.answer(&about(9_998), now).is_some());
    }
}
