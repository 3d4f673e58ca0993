use std::collections::HashMap;
use std::net::SocketAddr;
use std::time::{Duration, Instant};

/// A peer that goes on for longer than this gives up by itself.
const LIFETIME: Duration = Duration::from_secs(10);

/// Who goes on is told again this often.
const INTERVAL: Duration = Duration::from_millis(100);

/// Connections that are remembered at most; of more the oldest are forgotten.
const MAX_REMEMBERED: usize = 256;

/// Connections that this end closed, so that a peer that missed the goodbye is told once more.
#[derive(Debug, Default)]
pub(crate) struct Farewells {
    said: HashMap<u32, Farewell>,
}

#[derive(Debug)]
struct Farewell {
    peer: SocketAddr,
    datagram: Vec<u8>,
    closed_at: Instant,
    again_at: Instant,
}

impl Farewells {
    /// Remembers a connection by our number of it.
    pub(crate) fn remember(&mut self, now: Instant, id: u32, peer: SocketAddr, datagram: Vec<u8>) {
        self.said.retain(|_, farewell| now.saturating_duration_since(farewell.closed_at) < LIFETIME);
        if self.said.len() >= MAX_REMEMBERED {
            let oldest = self.said.iter().min_by_key(|(_, farewell)| farewell.closed_at).map(|(id, _)| *id);
            oldest.and_then(|id| self.said.remove(&id));
        }
        self.said.insert(id, Farewell { peer, datagram, closed_at: now, again_at: now + INTERVAL });
    }

    /// What is to be sent to a peer that still sends to connection `id`, if it is time for it.
    pub(crate) fn answer(&mut self, now: Instant, id: u32, from: SocketAddr) -> Option<&[u8]> {
        let farewell = self.said.get_mut(&id).filter(|farewell| {
            let is_recent = now.saturating_duration_since(farewell.closed_at) < LIFETIME;
            is_recent && farewell.peer == from && now >= farewell.again_at
        })?;
        farewell.again_at = now + INTERVAL;
        Some(&farewell.datagram)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn peer(port: u16) -> SocketAddr {
        SocketAddr::from(([192, 0, 2, 7], port))
    }

    #[test]
    fn who_goes_on_is_told_now_and_then() {
        let (mut farewells, now) = (Farewells::default(), Instant::now());
        farewells.remember(now, 7, peer(1), vec![5]);
        assert_eq!(farewells.answer(now, 7, peer(1)), None, "it may be on its way");
        let later = now + INTERVAL;
        assert_eq!(farewells.answer(later, 7, peer(2)), None, "somebody else");
        assert_eq!(farewells.answer(later, 8, peer(1)), None);
        assert_eq!(farewells.answer(later, 7, peer(1)), Some(&[5][..]));
        assert_eq!(farewells.answer(later, 7, peer(1)), None, "once is enough");
        assert_eq!(farewells.answer(now + LIFETIME, 7, peer(1)), None, "long ago");
    }

    #[test]
    fn the_oldest_are_forgotten() {
        let (mut farewells, now) = (Farewells::default(), Instant::now());
        for id in 0..300 {
            farewells.remember(now + Duration::from_millis(id.into()), id, peer(1), Vec::new());
        }
        assert_eq!(farewells.said.len(), MAX_REMEMBERED);
        assert!(!farewells.said.contains_key(&43) && farewells.said.contains_key(&44));
        farewells.remember(now + 2 * LIFETIME, 1, peer(1), Vec::new());
        assert_eq!(farewells.said.len(), 1);
    }
}
