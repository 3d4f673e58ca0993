use std::hash::{BuildHasher, BuildHasherDefault, DefaultHasher};

use tokio::sync::{Mutex, MutexGuard};

/// Channels that share a turn by chance wait for each other; there are enough that they seldom do.
const COUNT: usize = 64;

/// Changes of a channel one after the other: each is read, changed and written in its turn, so that of two at once
/// neither is lost.
#[derive(Debug)]
pub(crate) struct Turns([Mutex<()>; COUNT]);

impl Default for Turns {
    fn default() -> Self {
        Self(std::array::from_fn(|_| Mutex::default()))
    }
}

impl Turns {
    /// Waits for the turns of all.
    pub(crate) async fn all(&self) -> Vec<MutexGuard<'_, ()>> {
        let mut turns = Vec::with_capacity(COUNT);
        // In one order, as who waits for one has no other.
        for turn in &self.0 {
            turns.push(turn.lock().await);
        }
        turns
    }

    /// Waits for the turn of a channel; it is over when what is given is dropped.
    pub(crate) async fn of(&self, channel: &str) -> MutexGuard<'_, ()> {
        let hash = BuildHasherDefault::<DefaultHasher>::default().hash_one(channel);
        self.0[usize::try_from(hash % COUNT as u64).unwrap_or(0)].lock().await
    }
}
