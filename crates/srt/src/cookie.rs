use std::net::{IpAddr, SocketAddr};
use std::time::{Duration, Instant};

use crate::randomness::keyed_hash;

/// A cookie opens the door in the minute in which it was made and in the one after (§4.3.1.1).
const LIFETIME: Duration = Duration::from_mins(1);

/// Cookies that only we can make, so that nothing is kept about who has not shown to be reachable.
#[derive(Clone)]
pub(crate) struct Cookies {
    secret: [u8; 32],
    start: Instant,
}

impl Cookies {
    pub(crate) fn new(secret: [u8; 32], start: Instant) -> Self {
        Self { secret, start }
    }

    pub(crate) fn make(&self, now: Instant, from: SocketAddr) -> u32 {
        self.at(self.minute(now), from)
    }

    pub(crate) fn is_ours(&self, now: Instant, from: SocketAddr, cookie: u32) -> bool {
        let minute = self.minute(now);
        cookie == self.at(minute, from) || cookie == self.at(minute.wrapping_sub(1), from)
    }

    fn minute(&self, now: Instant) -> u64 {
        now.saturating_duration_since(self.start).as_secs() / LIFETIME.as_secs()
    }

    fn at(&self, minute: u64, from: SocketAddr) -> u32 {
        let address = match from.ip() {
            IpAddr::V4(address) => address.to_ipv6_mapped(),
            IpAddr::V6(address) => address,
        };
        let parts: [&[u8]; 3] = [&address.octets(), &from.port().to_be_bytes(), &minute.to_be_bytes()];
        let hash = keyed_hash(&self.secret, &parts);
        // Zero means that there is none yet.
        u32::from_be_bytes([hash[0], hash[1], hash[2], hash[3]]).max(1)
    }
}

impl std::fmt::Debug for Cookies {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.write_str("Cookies(…)")
    }
}
