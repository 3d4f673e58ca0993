//! Who from out there was last at each door.

use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;

use parking_lot::Mutex;
use time::OffsetDateTime;
use tokio::time::{MissedTickBehavior, interval, timeout};
use tokio_util::sync::CancellationToken;
use waverant_net::{Reach, reach_of};
use waverant_store::{ReachedDoor, Store};

/// How often what is new is written down; a kill loses no more than that.
const INTERVAL: Duration = Duration::from_secs(60);

/// How long the database may take for it, at a stop too.
const PATIENCE: Duration = Duration::from_secs(1);

/// A door is noted this often.
const REST: time::Duration = time::Duration::seconds(1);

/// The last callers of doors, by whether it is TCP and the port.
#[derive(Debug, Default)]
pub struct ReachedBook(Mutex<BTreeMap<(bool, u16), Last>>);

#[derive(Debug)]
struct Last {
    address: IpAddr,
    at: OffsetDateTime,
    is_written: bool,
}

impl ReachedBook {
    /// Notes a caller; one of this house's own net says nothing of out there.
    pub fn note(&self, is_tcp: bool, port: u16, address: IpAddr) {
        let address = address.to_canonical();
        if reach_of(address) == Reach::Public {
            self.note_at(is_tcp, port, address, OffsetDateTime::now_utc());
        }
    }

    fn note_at(&self, is_tcp: bool, port: u16, address: IpAddr, at: OffsetDateTime) {
        let mut doors = self.0.lock();
        // Only own doors are noted, so there are few.
        match doors.get_mut(&(is_tcp, port)) {
            Some(last) if at - last.at < REST => {}
            _ => drop(doors.insert((is_tcp, port), Last { address, at, is_written: false })),
        }
    }

    /// What was not written down yet.
    fn news(&self) -> Vec<ReachedDoor> {
        let mut doors = self.0.lock();
        let fresh = doors.iter_mut().filter(|(_, last)| !last.is_written);
        let told = fresh.map(|((is_tcp, port), last)| {
            last.is_written = true;
            ReachedDoor { is_tcp: *is_tcp, port: *port, address: last.address.to_string(), at: last.at }
        });
        told.collect()
    }

    /// Writes down what is new, now.
    pub async fn write(&self, store: &Store) {
        let news = self.news();
        if let Err(error) = store.write_reached_doors(&news).await {
            tracing::debug!(%error, "who was at the doors is written down later");
            self.put_back(&news);
        }
    }

    /// Writes it down now and then, until the service stops.
    pub(crate) async fn keep(self: Arc<Self>, store: Store, stopping: CancellationToken) {
        let mut ticks = interval(INTERVAL);
        ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
        while stopping.run_until_cancelled(ticks.tick()).await.is_some() {
            let _ = timeout(PATIENCE, self.write(&store)).await;
        }
        let _ = timeout(PATIENCE, self.write(&store)).await;
    }

    fn put_back(&self, news: &[ReachedDoor]) {
        let mut doors = self.0.lock();
        for door in news {
            if let Some(last) = doors.get_mut(&(door.is_tcp, door.port)) {
                last.is_written = false;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_last_of_each_door_is_told_once() {
        let (book, start) = (ReachedBook::default(), OffsetDateTime::UNIX_EPOCH);
        let [one, other] = [1, 2].map(|last| IpAddr::from([203, 0, 113, last]));
        book.note_at(true, 1935, one, start);
        book.note_at(true, 1935, other, start + REST / 2);
        book.note_at(false, 7810, other, start);
        let told: Vec<(u16, String)> = book.news().into_iter().map(|door| (door.port, door.address)).collect();
        assert_eq!(told, [(7810, other.to_string()), (1935, one.to_string())]);
        assert_eq!(book.news(), []);
        book.note_at(true, 1935, other, start + REST);
        let news = book.news();
        assert_eq!(news[0].address, other.to_string());
        book.put_back(&news);
        assert_eq!(book.news(), news);
    }

    #[test]
    fn neighbours_say_nothing_of_out_there() {
        let book = ReachedBook::default();
        for address in ["127.0.0.1", "192.168.1.4", "fd00::4", "fe80::4", "::ffff:10.0.0.1", "100.64.0.1"] {
            book.note(true, 1935, address.parse().unwrap());
        }
        assert_eq!(book.news(), []);
        book.note(true, 1935, "::ffff:203.0.113.1".parse().unwrap());
        assert_eq!(book.news()[0].address, "203.0.113.1");
    }
}
