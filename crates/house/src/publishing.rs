//! Shows that are told from depots as well.

use std::collections::HashMap;

use parking_lot::Mutex;
use time::OffsetDateTime;

/// How the show of a channel gets to a depot.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Publishing {
    /// The depot.
    pub depot: String,
    /// Where viewers fetch the playlist, once there is one.
    pub address: Option<String>,
    /// Up to when the show is told there.
    pub told_until: Option<OffsetDateTime>,
    /// What was sent, in bytes.
    pub sent_bytes: u64,
    /// What is wrong, in words.
    pub fault: Option<String>,
}

/// What is published now, by channel and session.
#[derive(Debug, Default)]
pub(crate) struct PublishingDesk(Mutex<HashMap<u64, (u64, Publishing)>>);

impl PublishingDesk {
    /// Of a channel; none if its show is not published.
    pub(crate) fn of(&self, channel_id: u64) -> Option<Publishing> {
        self.0.lock().get(&channel_id).map(|(_, publishing)| publishing.clone())
    }

    /// Notes it; `None` when the session is published no longer.
    pub(crate) fn note(&self, channel_id: u64, session: u64, now: Option<Publishing>) {
        let mut all = self.0.lock();
        match now {
            Some(publishing) => {
                all.insert(channel_id, (session, publishing));
            }
            // A later session may be told there already.
            None if all.get(&channel_id).is_some_and(|(known, _)| *known == session) => {
                all.remove(&channel_id);
            }
            None => {}
        }
    }
}
