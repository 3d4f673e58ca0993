//! What players get between two shows of a channel.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use parking_lot::Mutex;
use waverant_media::Tracks;
use waverant_relay::{ChannelRules, SlateChoice};
use waverant_show::{Feed, Interlude, Likeness, Show, Surroundings, interlude};

use crate::Directory;

/// So long a holding picture goes on that nobody has any more: who comes and goes is not to have it made each time.
const LINGER: Duration = Duration::from_secs(60);

/// The holding pictures that are watched now, and what shows were like.
#[derive(Debug, Default)]
pub(crate) struct Interludes {
    running: Mutex<HashMap<u64, Running>>,
    shown: Mutex<HashMap<u64, Likeness>>,
}

#[derive(Debug)]
struct Running {
    choice: SlateChoice,
    /// The tracks of the show that it is like.
    like: Option<Arc<Tracks>>,
    feed: Arc<Feed>,
    /// When somebody had it last.
    had_at: Instant,
}

impl Interludes {
    /// The holding picture of a channel: one for all who wait.
    pub(crate) fn feed(&self, rules: &ChannelRules, surroundings: &Surroundings) -> Arc<Feed> {
        let last = self.shown.lock().get(&rules.id).cloned();
        let like = last.as_ref().map(|last| last.tracks.clone());
        let mut running = self.running.lock();
        let is_same = |known: &&Running| known.choice == rules.slate && known.like == like;
        if let Some(known) = running.get(&rules.id).filter(is_same) {
            return known.feed.clone();
        }
        let between = Interlude { channel_id: rules.id, choice: rules.slate, last };
        let makers = (surroundings.slates.clone(), surroundings.codec.clone());
        let feed = interlude(between, makers, surroundings.stopping.clone());
        let known = Running { choice: rules.slate, like, feed: feed.clone(), had_at: Instant::now() };
        running.insert(rules.id, known);
        feed
    }

    /// Lets go of pictures that nobody has had for a while.
    pub(crate) fn sweep(&self) {
        let now = Instant::now();
        self.running.lock().retain(|_, known| {
            if Arc::strong_count(&known.feed) > 1 {
                known.had_at = now;
            }
            now.saturating_duration_since(known.had_at) < LINGER
        });
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
