//! What players get between two shows of a channel.

use std::collections::HashMap;
use std::sync::{Arc, Weak};

use parking_lot::Mutex;
use waverant_relay::{ChannelRules, SlateChoice};
use waverant_show::{Feed, Interlude, Likeness, Show, Surroundings, interlude};

use crate::Directory;

/// The holding pictures that are watched now, and what shows were like.
#[derive(Debug, Default)]
pub(crate) struct Interludes {
    running: Mutex<HashMap<u64, (SlateChoice, Weak<Feed>)>>,
    shown: Mutex<HashMap<u64, Likeness>>,
}

impl Interludes {
    /// The holding picture of a channel, for as long as somebody has it: one for all who wait.
    pub(crate) fn feed(&self, rules: &ChannelRules, surroundings: &Surroundings) -> Arc<Feed> {
        let mut running = self.running.lock();
        running.retain(|_, (_, feed)| feed.strong_count() > 0);
        if let Some((choice, feed)) = running.get(&rules.id)
            && *choice == rules.slate
            && let Some(feed) = feed.upgrade()
        {
            return feed;
        }
        let last = self.shown.lock().get(&rules.id).cloned();
        let between = Interlude { channel_id: rules.id, choice: rules.slate, last };
        let makers = (surroundings.slates.clone(), surroundings.codec.clone());
        let feed = interlude(between, makers, surroundings.stopping.clone());
        running.insert(rules.id, (rules.slate, Arc::downgrade(&feed)));
        feed
    }

    /// Remembers what shows are like, for what follows them.
    pub(crate) fn remember(&self, shows: &[Arc<Show>], directory: &Directory) {
        let mut shown = self.shown.lock();
        shown.retain(|channel, _| directory.channel(*channel).is_some());
        for show in shows.iter().filter(|show| !show.live().has_ended()) {
            let likeness = show.likeness();
            if !likeness.tracks.is_empty() {
                shown.insert(show.channel_id(), likeness);
            }
        }
    }
}
