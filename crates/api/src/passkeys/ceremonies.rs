use std::collections::HashMap;
use std::time::Instant;

use parking_lot::Mutex;
use webauthn_rs::prelude::{PasskeyAuthentication, PasskeyRegistration};

use super::site::{LIFE, Site};

/// Challenges of one person at a time, and of all.
const MOST_OF_ONE: usize = 4;
const MOST: usize = 512;

/// What was asked.
#[derive(Debug)]
pub(super) enum Asked {
    /// To make a passkey.
    ToMake(PasskeyRegistration),
    /// To prove that one is there.
    ToProve(PasskeyAuthentication),
}

#[derive(Debug)]
pub(super) struct Ceremony {
    user_id: u64,
    begun: Instant,
    pub(super) site: Site,
    pub(super) asked: Asked,
}

/// What was asked of passkeys and is not answered yet. It is in memory only: who was asked before a restart is asked
/// again. Whoever gets one asked knows a password, so that strangers do not push out what others were asked.
#[derive(Debug, Default)]
pub(crate) struct Ceremonies(Mutex<HashMap<String, Ceremony>>);

impl Ceremonies {
    /// Keeps what somebody was asked, by its challenge.
    pub(super) fn begin(&self, now: Instant, name: &str, user_id: u64, site: Site, asked: Asked) {
        let mut kept = self.0.lock();
        kept.retain(|_, ceremony| now.saturating_duration_since(ceremony.begun) < LIFE);
        make_room(&mut kept, MOST_OF_ONE, |ceremony| ceremony.user_id == user_id);
        make_room(&mut kept, MOST, |_| true);
        kept.insert(name.to_owned(), Ceremony { user_id, begun: now, site, asked });
    }

    /// What a person was asked, once.
    pub(super) fn take(&self, now: Instant, name: &str, user_id: u64) -> Option<Ceremony> {
        let mut kept = self.0.lock();
        // What another one was asked stays his.
        kept.get(name).filter(|ceremony| ceremony.user_id == user_id)?;
        kept.remove(name).filter(|ceremony| now.saturating_duration_since(ceremony.begun) < LIFE)
    }
}

/// The oldest of these makes room, if there are as many as there may be.
fn make_room(kept: &mut HashMap<String, Ceremony>, most: usize, is_one: impl Fn(&Ceremony) -> bool) {
    let ours = || kept.iter().filter(|(_, ceremony)| is_one(ceremony));
    if ours().count() < most {
        return;
    }
    if let Some(oldest) = ours().min_by_key(|(_, ceremony)| ceremony.begun).map(|(name, _)| name.clone()) {
        kept.remove(&oldest);
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    fn begin(ceremonies: &Ceremonies, now: Instant, name: &str, user_id: u64) {
        let site: Site = "https://relay.test".parse().unwrap();
        let (_, asked) = site.library().unwrap().start_passkey_registration(uuid(user_id), "cox", "cox", None).unwrap();
        ceremonies.begin(now, name, user_id, site, Asked::ToMake(asked));
    }

    fn uuid(user_id: u64) -> webauthn_rs::prelude::Uuid {
        webauthn_rs::prelude::Uuid::from_u128(u128::from(user_id))
    }

    #[test]
    fn each_is_taken_once_by_its_person_and_in_time() {
        let (ceremonies, now) = (Ceremonies::default(), Instant::now());
        begin(&ceremonies, now, "one", 1);
        assert!(ceremonies.take(now, "one", 2).is_none(), "of another one");
        assert!(ceremonies.take(now, "one", 1).is_some());
        assert!(ceremonies.take(now, "one", 1).is_none(), "a second time");
        begin(&ceremonies, now, "late", 1);
        assert!(ceremonies.take(now + LIFE, "late", 1).is_none());
    }

    #[test]
    fn nobody_fills_them_for_others() {
        let (ceremonies, now) = (Ceremonies::default(), Instant::now());
        begin(&ceremonies, now, "mine", 1);
        for turn in 0..20 {
            begin(&ceremonies, now + Duration::from_millis(turn), &format!("theirs {turn}"), 2);
        }
        assert_eq!(ceremonies.0.lock().len(), 1 + MOST_OF_ONE);
        assert!(ceremonies.take(now, "mine", 1).is_some());
        assert!(ceremonies.take(now, "theirs 15", 2).is_none() && ceremonies.take(now, "theirs 19", 2).is_some());
        for user_id in 0..600 {
            begin(&ceremonies, now, &format!("of {user_id}"), user_id);
        }
        assert_eq!(ceremonies.0.lock().len(), MOST);
    }
}
