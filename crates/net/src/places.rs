use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::Arc;
use std::time::Instant;

use parking_lot::Mutex;
use tokio_util::sync::CancellationToken;
use waverant_relay::{CallerId, Lobby, LobbyLimits, NoPlace, Standing};

/// The connections of a front door, and who makes room when it is full.
#[derive(Clone, Debug)]
pub struct Places(Arc<Mutex<Held>>);

#[derive(Debug)]
struct Held {
    lobby: Lobby,
    displaced: HashMap<CallerId, CancellationToken>,
}

/// A connection's place; given back when dropped.
#[derive(Debug)]
pub struct Place {
    id: CallerId,
    places: Places,
    /// Cancelled when the connection has to make room: it is to be dropped then.
    pub displaced: CancellationToken,
}

impl Places {
    /// A door with so many places.
    pub fn new(limits: LobbyLimits) -> Self {
        let held = Held { lobby: Lobby::new(limits), displaced: HashMap::new() };
        Self(Arc::new(Mutex::new(held)))
    }

    /// A place for a connection of `address`; whoever makes room for it is told.
    ///
    /// # Errors
    /// [`NoPlace`] if nobody can make room.
    pub fn enter(&self, address: IpAddr, standing: Standing) -> Result<Place, NoPlace> {
        let displaced = CancellationToken::new();
        let mut held = self.0.lock();
        let entered = held.lobby.enter(Instant::now(), address, standing)?;
        if let Some(other) = entered.displaced.and_then(|id| held.displaced.remove(&id)) {
            other.cancel();
        }
        held.displaced.insert(entered.id, displaced.clone());
        Ok(Place { id: entered.id, places: self.clone(), displaced })
    }
}

impl Place {
    /// The connection has come further than just being there.
    pub fn note_progress(&self, progress: u8) {
        self.places.0.lock().lobby.note_progress(self.id, progress);
    }

    /// The connection is let in, and makes room for nobody from now on.
    ///
    /// # Errors
    /// [`NoPlace`] if it did so already, or the house is full.
    pub fn let_in(&self) -> Result<(), NoPlace> {
        self.places.0.lock().lobby.let_in(self.id)
    }

    /// Nothing runs on the connection any more that keeps it its place.
    pub fn send_back(&self) {
        self.places.0.lock().lobby.send_back(self.id);
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        let mut held = self.places.0.lock();
        held.lobby.leave(self.id);
        held.displaced.remove(&self.id);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_makes_room_is_told_and_who_is_let_in_is_not() {
        let places = Places::new(LobbyLimits { let_in: 1, waiting: 2, per_address: 3 });
        let [one, other]: [IpAddr; 2] = ["192.0.2.1", "192.0.2.2"].map(|text| text.parse().unwrap());
        let first = places.enter(one, Standing::Stranger).unwrap();
        let second = places.enter(one, Standing::Stranger).unwrap();
        assert_eq!(first.let_in(), Ok(()));
        let third = places.enter(other, Standing::Known).unwrap();
        let fourth = places.enter(other, Standing::Known).unwrap();
        assert!(second.displaced.is_cancelled() && !first.displaced.is_cancelled());
        assert_eq!(second.let_in(), Err(NoPlace::MadeRoom));
        assert_eq!(third.let_in(), Err(NoPlace::House));
        first.send_back();
        assert_eq!(third.let_in(), Ok(()));
        drop((first, second, third, fourth));
        assert_eq!(places.0.lock().lobby.counts(), (0, 0));
        assert!(places.0.lock().displaced.is_empty());
    }
}
