//! Who may watch a channel, and how near to the moment.

mod crowd;
mod link;
mod page;
mod site;
mod ways;

#[cfg(test)]
mod crowd_tests;

use std::time::Duration;

use waverant_media::MediaTime;

pub use crowd::{Crowd, Newcomer, NoRoom, Room, Seated, ViewerCounts, ViewerId, Way};
pub use link::{Asker, LinkFault, ViewingLink};
pub use page::{ChannelPage, PageLink};
pub use site::{Site, SiteError};
pub use ways::Ways;

use crate::PackagingRules;

/// Who may watch a channel without an account.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Audience {
    /// Nobody.
    #[default]
    Nobody,
    /// Who has a link.
    ByLink,
    /// Everybody who knows the address.
    Everybody,
}

/// What is more important to viewers: to be near, or never to wait.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Nearness {
    /// As near as it can be: a picture at a time where the player can.
    Nearest,
    /// Some seconds behind, in parts.
    #[default]
    Near,
    /// Some segments behind, whole ones alone: for lines that stutter.
    Steady,
}

/// What players get that stay connected while no show is on.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum BetweenShows {
    /// Nothing: they wait.
    #[default]
    Silence,
    /// The holding picture.
    Picture,
}

/// A depot from which shows are told to any number of viewers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PublishedTo {
    /// Its name.
    pub depot: String,
    /// The address under which anybody fetches what lies below the depot's prefix.
    pub public_address: Option<String>,
}

/// As far back as this, all segments lie in memory; of a longer window only those that players mostly ask for.
const IN_MEMORY: Duration = Duration::from_secs(120);
const IN_MEMORY_OF_LONG: Duration = Duration::from_secs(30);

/// Further back than this, segments are as long as they can be.
const LONG_WINDOW: Duration = Duration::from_secs(1800);

/// How a channel is watched.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ViewingRules {
    /// Who may.
    pub audience: Audience,
    /// How near.
    pub nearness: Nearness,
    /// How far back one can go. Default 30 s.
    pub back: Duration,
    /// Whether segments are made while nobody watches, so that going back is possible for the first one too.
    pub is_always_ready: bool,
    /// How many may watch at a time; None is as many as the house takes.
    pub most_viewers: Option<u32>,
    /// The sites whose pages may show the channel while everybody may watch it; none for all sites.
    pub sites: Vec<Site>,
    /// What players get that stay connected while no show is on.
    pub between_shows: BetweenShows,
    /// By which ways it can be watched.
    pub ways: Ways,
    /// The depot from which its shows are told as well, while everybody may watch.
    pub published_to: Option<PublishedTo>,
    /// What its page says.
    pub page: ChannelPage,
}

impl Default for ViewingRules {
    fn default() -> Self {
        let (audience, nearness) = (Audience::default(), Nearness::default());
        let back = Duration::from_secs(30);
        Self {
            audience,
            nearness,
            back,
            is_always_ready: false,
            most_viewers: None,
            sites: Vec::new(),
            between_shows: BetweenShows::default(),
            ways: Ways::default(),
            published_to: None,
            page: ChannelPage::default(),
        }
    }
}

impl ViewingRules {
    /// How segments are made for that. The longer the window, the longer they are: a playlist names them all.
    pub fn packaging(&self) -> PackagingRules {
        let usual = PackagingRules::default();
        let (part, least) = match self.nearness {
            Nearness::Nearest | Nearness::Near => (usual.part, usual.segment),
            Nearness::Steady => (None, MediaTime::from_millis(4_000)),
        };
        let wished = match self.back {
            back if back > LONG_WINDOW => MediaTime::from_millis(6_000),
            back if back > IN_MEMORY => MediaTime::from_millis(4_000),
            _ => usual.segment,
        };
        let in_memory = (self.back > IN_MEMORY).then(|| MediaTime::from_duration(IN_MEMORY_OF_LONG));
        PackagingRules {
            part,
            segment: least.max(wished),
            window: MediaTime::from_duration(self.back),
            in_memory,
            ..usual
        }
    }

    /// Whether segments are made while nobody watches: a long way back must have been made before.
    pub fn is_packaged_always(&self) -> bool {
        self.is_always_ready || self.back > IN_MEMORY
    }
}
