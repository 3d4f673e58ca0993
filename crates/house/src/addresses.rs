//! Which addresses are held off, and which are the crew's.

use std::net::IpAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use parking_lot::{Mutex, RwLock};
use time::OffsetDateTime;
use waverant_net::caller_of;
use waverant_relay::{AddressRule, Blocks, Reception};
use waverant_store::{Store, StoreError};

/// An address that is blocked because of what came from there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct BlockedAddress {
    /// The address; of IPv6 the network of 64 bits that it is in.
    pub address: IpAddr,
    /// Since when.
    pub since: OffsetDateTime,
    /// Until when.
    pub until: OffsetDateTime,
    /// Wrong tries since then.
    pub tries: u64,
    /// How often it was blocked within the last day, this time among them.
    pub times: u32,
}

/// How callers from an address are received.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Received {
    /// As anybody.
    AsAnybody,
    /// They are the crew's.
    Welcome,
    /// Nothing but what is right opens; until then, or until somebody says otherwise.
    Blocked(Option<OffsetDateTime>),
}

/// Rules that people made, and blocks that came of what callers did. Those are gone with a restart.
#[derive(Debug, Default)]
pub(crate) struct AddressBook {
    rules: RwLock<Arc<[AddressRule]>>,
    /// One change of them at a time.
    pub(crate) changing: tokio::sync::Mutex<()>,
    blocks: Mutex<Blocks>,
}

impl AddressBook {
    /// Nobody is blocked but by what people said.
    pub(crate) async fn load(store: &Store) -> Result<Self, StoreError> {
        let rules = store.address_rules(OffsetDateTime::now_utc()).await?;
        Ok(Self { rules: RwLock::new(rules.into()), ..Self::default() })
    }

    /// Follows a rule that was written down, in the place of another for the same addresses. Nothing is read for it: what
    /// is written holds, also if the database is lost in that moment.
    pub(crate) fn add_rule(&self, rule: AddressRule) {
        let mut rules = self.rules.write();
        let others = rules.iter().filter(|known| known.range != rule.range).cloned();
        *rules = [rule.clone()].into_iter().chain(others).collect();
    }

    pub(crate) fn remove_rule(&self, id: u64) {
        let mut rules = self.rules.write();
        *rules = rules.iter().filter(|known| known.id != id).cloned().collect();
    }

    pub(crate) fn received(&self, address: IpAddr) -> Received {
        match self.rule_of(address) {
            Some((Reception::Welcome, _)) => Received::Welcome,
            Some((Reception::Blocked, until)) => Received::Blocked(until),
            None => {
                let now = Instant::now();
                let until = self.blocks.lock().block_of(caller_of(address), now).map(|block| block.until);
                until.map_or(Received::AsAnybody, |until| Received::Blocked(Some(wall_clock(until, now))))
            }
        }
    }

    /// True if people blocked it.
    pub(crate) fn is_shut_out(&self, address: IpAddr) -> bool {
        self.rule_of(address).is_some_and(|(reception, _)| reception == Reception::Blocked)
    }

    fn rule_of(&self, address: IpAddr) -> Option<(Reception, Option<OffsetDateTime>)> {
        let rules = self.rules.read().clone();
        let rule = AddressRule::of(&rules, address, OffsetDateTime::now_utc())?;
        Some((rule.reception, rule.until))
    }

    /// Counts a wrong try. Says for how long the address is blocked, if it is from now on.
    pub(crate) fn note_wrong(&self, address: IpAddr) -> Option<Duration> {
        self.blocks.lock().note(caller_of(address), Instant::now())
    }

    /// Whether a caller is heard; one of an address that is blocked for what it did only so often in a second.
    pub(crate) fn hears(&self, address: IpAddr) -> bool {
        self.blocks.lock().hears(caller_of(address), Instant::now())
    }

    pub(crate) fn release(&self, address: IpAddr) -> bool {
        self.blocks.lock().release(caller_of(address), Instant::now())
    }

    pub(crate) fn blocked(&self) -> Vec<BlockedAddress> {
        let now = Instant::now();
        let held = self.blocks.lock().held(now);
        let told = held.into_iter().map(|(address, block)| BlockedAddress {
            address,
            since: OffsetDateTime::now_utc() - now.saturating_duration_since(block.since),
            until: wall_clock(block.until, now),
            tries: block.tries,
            times: block.times,
        });
        told.collect()
    }
}

fn wall_clock(at: Instant, now: Instant) -> OffsetDateTime {
    OffsetDateTime::now_utc() + at.saturating_duration_since(now)
}
