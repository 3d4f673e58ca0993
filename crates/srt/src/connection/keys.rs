use std::time::{Duration, Instant};

use bytes::Bytes;

use super::control::{Control, confirms};
use super::{CloseReason, Connection};
use crate::crypto::{Derivation, DerivedKey, KeyRing, Passphrase, Sealer, WrappingKey};
use crate::number::SeqNumber;
use crate::wire::{DataHeader, KeyFlag, KeyMaterial, KeyMaterialState};

/// The keys of both directions, and when a new one is due (§6.1.6).
#[derive(Debug)]
pub(crate) struct Keys {
    passphrase: Passphrase,
    wrapping: Option<WrappingKey>,
    sealer: Sealer,
    ring: KeyRing,
    refresh: u32,
    announce: u32,
    packets: u32,
    pending: Option<Pending>,
}

/// A next key that the peer is being told.
#[derive(Debug)]
struct Pending {
    message: Bytes,
    said_at: Option<Instant>,
    is_confirmed: bool,
}

impl Keys {
    pub(crate) fn new(passphrase: Passphrase, sealer: Sealer, ring: KeyRing, refresh: u32, announce: u32) -> Self {
        // There must be time to tell the new key.
        let announce = announce.min(refresh / 2);
        let wrapping = Some(sealer.wrapping().clone());
        Self { passphrase, wrapping, sealer, ring, refresh, announce, packets: 0, pending: None }
    }

    /// True if payloads carry a tag.
    pub(crate) fn is_authenticated(&self) -> bool {
        self.sealer.is_authenticated()
    }

    pub(super) fn flag(&self) -> KeyFlag {
        self.sealer.flag()
    }

    /// Decrypts a payload in its place; false if it cannot be.
    pub(super) fn open(&self, header: &DataHeader, raw_header: &[u8], payload: &mut Vec<u8>) -> bool {
        let mut bound = [0; crate::wire::HEADER_LENGTH];
        bound.copy_from_slice(raw_header);
        // The mark of a retransmission is no part of what is authenticated.
        bound[4] &= !0b100;
        match self.ring.open(header.key, header.seq, &bound, payload) {
            Some(length) => {
                payload.truncate(length);
                true
            }
            None => false,
        }
    }

    pub(super) fn seal(&mut self, seq: SeqNumber, header: &[u8], out: &mut Vec<u8>, start: usize, is_first: bool) {
        self.sealer.seal(seq, header, out, start);
        self.packets = self.packets.saturating_add(u32::from(is_first));
        let is_confirmed = self.pending.as_ref().is_some_and(|pending| pending.is_confirmed);
        if self.packets >= self.refresh && is_confirmed {
            self.sealer.switch();
            (self.packets, self.pending) = (0, None);
        }
    }

    /// When the next key is to be told, or told again.
    pub(super) fn announce_at(&self, rtt: Duration) -> Option<Instant> {
        let pending = self.pending.as_ref().filter(|pending| !pending.is_confirmed)?;
        pending.said_at.map(|at| at + rtt * 3 / 2)
    }
}

impl Connection {
    /// Tells the next key in time before it is used, until the peer confirms it.
    pub(super) fn announce_keys(&mut self, now: Instant) {
        let repeat_after = self.round_trip.time() * 3 / 2;
        let Some(keys) = &mut self.keys else { return };
        if keys.pending.is_none() && keys.packets >= keys.refresh - keys.announce {
            let message = keys.sealer.prepare_next(&mut self.random);
            keys.pending = message.map(|message| Pending { message, said_at: None, is_confirmed: false });
        }
        let Some(pending) = keys.pending.as_mut().filter(|pending| !pending.is_confirmed) else { return };
        if pending.said_at.is_none_or(|at| now >= at + repeat_after) {
            pending.said_at = Some(now);
            let message = pending.message.clone();
            self.say(Control::KeyRequest(message));
        }
    }

    /// Takes new keys of the peer, and answers with the message itself or with what is wrong.
    /// What is wrapped with another salt than before waits for [`take_derived`](Self::take_derived).
    pub(super) fn handle_key_request(&mut self, body: &[u8]) {
        let Some(keys) = &self.keys else { return self.answer_keys(Err(KeyMaterialState::NoSecret)) };
        match KeyMaterial::parse(body) {
            Err(_) => self.answer_keys(Err(KeyMaterialState::BadSecret)),
            Ok(message) if keys.wrapping.as_ref().is_some_and(|known| known.is_for(&message)) => {
                self.take_keys(&message);
            }
            // One at a time: the peer repeats itself until it is answered.
            Ok(message) if self.awaited_key.is_none() => {
                self.derivation = Some(Derivation::new(&keys.passphrase, &message));
                self.awaited_key = Some(message);
            }
            Ok(_) => {}
        }
    }

    /// Work that the peer's new key asks for; its result goes to
    /// [`take_derived`](Self::take_derived). None if there is none, or it was given out already.
    #[must_use]
    pub fn poll_derivation(&mut self) -> Option<Derivation> {
        self.derivation.take()
    }

    /// Takes the result of [`poll_derivation`](Self::poll_derivation); None if it was not worth
    /// doing, and the peer may ask again.
    pub fn take_derived(&mut self, derived: Option<DerivedKey>) {
        let (Some(message), Some(derived)) = (self.awaited_key.take(), derived) else { return };
        if let Some(keys) = &mut self.keys {
            keys.wrapping = Some(derived.into_wrapping());
            self.take_keys(&message);
        }
    }

    fn take_keys(&mut self, message: &KeyMaterial) {
        let Some(keys) = &mut self.keys else { return };
        let taken = keys.ring.take(&keys.passphrase, &mut keys.wrapping, message);
        self.answer_keys(taken.map(|()| message.to_bytes()).map_err(|_| KeyMaterialState::BadSecret));
    }

    fn answer_keys(&mut self, answer: Result<Bytes, KeyMaterialState>) {
        let answer = answer.unwrap_or_else(|state| Bytes::copy_from_slice(&state.word().to_be_bytes()));
        self.say(Control::KeyResponse(answer));
    }

    pub(super) fn handle_key_response(&mut self, body: &[u8]) {
        let Some(pending) = self.keys.as_mut().and_then(|keys| keys.pending.as_mut()) else { return };
        if confirms(body, &pending.message) {
            pending.is_confirmed = true;
        } else if KeyMaterialState::parse(body).is_some() {
            self.end(CloseReason::BadSecret);
        }
    }
}
