use std::collections::HashMap;
use std::net::IpAddr;
use std::time::Instant;

use parking_lot::Mutex;

/// Addresses that are kept in mind; the one that was here longest ago makes room.
const MAX_ADDRESSES: usize = 2048;

/// Addresses and networks from which somebody was let in lately. Their callers keep their places
/// when strangers crowd the doors.
#[derive(Debug, Default)]
pub(crate) struct Acquaintances(Mutex<HashMap<IpAddr, Instant>>);

impl Acquaintances {
    /// Notes that somebody of this address was let in.
    pub(crate) fn note(&self, address: IpAddr, now: Instant) {
        let mut known = self.0.lock();
        if known.len() >= MAX_ADDRESSES && !known.contains_key(&address) {
            let oldest = known.iter().min_by_key(|(_, at)| **at).map(|(address, _)| *address);
            oldest.map(|oldest| known.remove(&oldest));
        }
        known.insert(address, now);
    }

    /// True if somebody of this address was let in.
    pub(crate) fn has(&self, address: IpAddr) -> bool {
        self.0.lock().contains_key(&address)
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    #[test]
    fn the_oldest_is_forgotten() {
        let (known, now) = (Acquaintances::default(), Instant::now());
        let address = |number: u32| IpAddr::V4(number.into());
        for (number, after) in (0..=2048u32).zip(0..) {
            known.note(address(number), now + Duration::from_secs(after));
        }
        assert!(!known.has(address(0)) && known.has(address(1)) && known.has(address(2048)));
    }
}
