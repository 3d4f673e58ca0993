use std::thread;
use std::time::Duration;

use argon2::Block;
use tokio::sync::mpsc::{self, Receiver, Sender};
use tokio::sync::oneshot;
use tokio::time::timeout;

use super::password::{hash_password, verify_password};
use waverant_relay::Secret;

use crate::StoreError;

/// Hashes that wait for their turn, at 20 to 50 ms each: of who comes first, and of the others.
const MOST_FIRST: usize = 32;
const MOST_LAST: usize = 8;

/// How long who comes first waits for room; the others are told at once to come again.
const PATIENCE: Duration = Duration::from_secs(3);

/// The memory is given back when nothing was to be hashed for so long.
const REST: Duration = Duration::from_secs(5);

enum Work {
    Hash(Secret, oneshot::Sender<Result<String, StoreError>>),
    Verify(Secret, String, oneshot::Sender<bool>),
}

/// When a password is looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Turn {
    /// Before all others: of somebody who is signed in, or from where nothing wrong was guessed lately.
    First,
    /// When nobody else waits.
    Last,
}

/// Hashes passwords one at a time, on a thread of its own, in one piece of memory that is used
/// again: strangers who try to sign in take no more than that.
#[derive(Clone, Debug)]
pub(crate) struct Hasher {
    first: Sender<Work>,
    last: Sender<Work>,
}

impl Hasher {
    /// The thread ends when the last copy is dropped.
    pub(crate) fn start() -> Result<Self, StoreError> {
        let ((first, firsts), (last, lasts)) = (mpsc::channel(MOST_FIRST), mpsc::channel(MOST_LAST));
        let spawned = thread::Builder::new().name("passwords".to_owned()).spawn(move || work(firsts, lasts));
        spawned.map_err(|error| StoreError::PasswordHash(error.to_string()))?;
        Ok(Self { first, last })
    }

    pub(crate) async fn hash(&self, password: Secret) -> Result<String, StoreError> {
        let (sender, receiver) = oneshot::channel();
        self.queue(Work::Hash(password, sender), Turn::First).await?;
        receiver.await.map_err(|_| StoreError::Busy)?
    }

    pub(crate) async fn verify(&self, password: Secret, hash: String, turn: Turn) -> Result<bool, StoreError> {
        let (sender, receiver) = oneshot::channel();
        self.queue(Work::Verify(password, hash, sender), turn).await?;
        receiver.await.map_err(|_| StoreError::Busy)
    }

    async fn queue(&self, work: Work, turn: Turn) -> Result<(), StoreError> {
        match turn {
            Turn::First => match timeout(PATIENCE, self.first.send(work)).await {
                Ok(Ok(())) => Ok(()),
                _ => Err(StoreError::Busy),
            },
            Turn::Last => self.last.try_send(work).map_err(|_| StoreError::Busy),
        }
    }
}

fn work(mut firsts: Receiver<Work>, mut lasts: Receiver<Work>) {
    let mut memory: Vec<Block> = Vec::new();
    let Ok(clock) = tokio::runtime::Builder::new_current_thread().enable_time().build() else { return };
    loop {
        let next = clock.block_on(async {
            let next = async {
                tokio::select! {
                    biased;
                    next = firsts.recv() => next,
                    Some(next) = lasts.recv() => Some(next),
                }
            };
            if memory.is_empty() { Ok(next.await) } else { timeout(REST, next).await }
        });
        let Ok(next) = next else {
            memory = Vec::new();
            continue;
        };
        match next {
            None => return,
            // Whoever asked and has gone is not worth the work.
            Some(Work::Hash(_, answer)) if answer.is_closed() => {}
            Some(Work::Verify(_, _, answer)) if answer.is_closed() => {}
            Some(Work::Hash(password, answer)) => drop(answer.send(hash_password(&password))),
            Some(Work::Verify(password, hash, answer)) => {
                let _ = answer.send(verify_password(&password, &hash, &mut memory));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A crowd of guessers keeps nobody else waiting.
    #[tokio::test]
    async fn who_comes_first_is_looked_at_first() {
        let hasher = Hasher::start().unwrap();
        let hash = hasher.hash(Secret::new("weir heron ferry")).await.unwrap();
        let crowd: Vec<_> = (0..40)
            .map(|_| {
                let (hasher, hash) = (hasher.clone(), hash.clone());
                tokio::spawn(async move { hasher.verify(Secret::new("guess"), hash, Turn::Last).await })
            })
            .collect();
        tokio::task::yield_now().await;
        assert!(hasher.verify(Secret::new("weir heron ferry"), hash, Turn::First).await.unwrap());
        let waiting = crowd.iter().filter(|guess| !guess.is_finished()).count();
        assert!(waiting >= MOST_LAST - 2, "only {waiting} of the crowd still wait");
        let mut refused = 0;
        for guess in crowd {
            refused += usize::from(matches!(guess.await.unwrap(), Err(StoreError::Busy)));
        }
        assert!(refused >= 40 - MOST_LAST - 2, "{refused} were told to come again");
    }
}
