use std::thread;
use std::time::Duration;

use argon2::Block;
use tokio::sync::{mpsc, oneshot};

use super::password::{hash_password, verify_password};
use waverant_relay::Secret;

use crate::StoreError;

/// Hashes that wait for their turn, at 20 to 50 ms each. More callers are told to come again.
const MAX_WAITING: usize = 16;

/// The memory is given back when nothing was to be hashed for so long.
const REST: Duration = Duration::from_secs(5);

enum Work {
    Hash(Secret, oneshot::Sender<Result<String, StoreError>>),
    Verify(Secret, String, oneshot::Sender<bool>),
}

/// Hashes passwords one at a time, on a thread of its own, in one piece of memory that is used
/// again: strangers who try to sign in take no more than that.
#[derive(Clone, Debug)]
pub(crate) struct Hasher(mpsc::Sender<Work>);

impl Hasher {
    /// The thread ends when the last copy is dropped.
    pub(crate) fn start() -> Result<Self, StoreError> {
        let (sender, receiver) = mpsc::channel(MAX_WAITING);
        let spawned = thread::Builder::new().name("passwords".to_owned()).spawn(move || work(receiver));
        spawned.map_err(|error| StoreError::PasswordHash(error.to_string()))?;
        Ok(Self(sender))
    }

    pub(crate) async fn hash(&self, password: Secret) -> Result<String, StoreError> {
        let (sender, receiver) = oneshot::channel();
        self.0.try_send(Work::Hash(password, sender)).map_err(|_| StoreError::Busy)?;
        receiver.await.map_err(|_| StoreError::Busy)?
    }

    pub(crate) async fn verify(&self, password: Secret, hash: String) -> Result<bool, StoreError> {
        let (sender, receiver) = oneshot::channel();
        self.0.try_send(Work::Verify(password, hash, sender)).map_err(|_| StoreError::Busy)?;
        receiver.await.map_err(|_| StoreError::Busy)
    }
}

fn work(mut receiver: mpsc::Receiver<Work>) {
    let mut memory: Vec<Block> = Vec::new();
    let Ok(clock) = tokio::runtime::Builder::new_current_thread().enable_time().build() else { return };
    loop {
        let next = if memory.is_empty() {
            receiver.blocking_recv()
        } else {
            match clock.block_on(async { tokio::time::timeout(REST, receiver.recv()).await }) {
                Ok(next) => next,
                Err(_) => {
                    memory = Vec::new();
                    continue;
                }
            }
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
