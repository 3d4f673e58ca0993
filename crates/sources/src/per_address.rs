use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::Arc;

use parking_lot::Mutex;

/// Counts connections by the address they come from.
#[derive(Clone, Debug)]
pub(crate) struct PerAddress {
    limit: usize,
    counts: Arc<Mutex<HashMap<IpAddr, usize>>>,
}

/// A connection's place; given back when dropped.
#[derive(Debug)]
pub(crate) struct AddressPlace {
    address: IpAddr,
    counts: Arc<Mutex<HashMap<IpAddr, usize>>>,
}

impl PerAddress {
    pub(crate) fn new(limit: usize) -> Self {
        Self { limit, counts: Arc::default() }
    }

    /// None if the address has as many connections as it may.
    pub(crate) fn take(&self, address: IpAddr) -> Option<AddressPlace> {
        let mut counts = self.counts.lock();
        let count = counts.entry(address).or_default();
        if *count >= self.limit {
            return None;
        }
        *count += 1;
        Some(AddressPlace { address, counts: self.counts.clone() })
    }
}

impl Drop for AddressPlace {
    fn drop(&mut self) {
        let mut counts = self.counts.lock();
        if let Some(count) = counts.get_mut(&self.address) {
            *count -= 1;
            if *count == 0 {
                counts.remove(&self.address);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_counted_by_address_and_given_back() {
        let door = PerAddress::new(2);
        let [one, other]: [IpAddr; 2] = ["192.0.2.1", "2001:db8::1"].map(|text| text.parse().unwrap());
        let first = door.take(one);
        let second = door.take(one);
        assert!(first.is_some() && second.is_some() && door.take(one).is_none());
        assert!(door.take(other).is_some(), "another address is not concerned");
        drop(first);
        assert!(door.take(one).is_some());
        drop(second);
        assert!(door.counts.lock().is_empty(), "addresses without connections are forgotten");
    }
}
