//! Who may watch a channel, and how near to the moment.

use std::time::Duration;

use waverant_media::MediaTime;

use crate::PackagingRules;

/// Who may watch a channel without an account.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Audience {
    /// Nobody.
    #[default]
    Nobody,
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

/// How a channel is watched.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ViewingRules {
    /// Who may.
    pub audience: Audience,
    /// How near.
    pub nearness: Nearness,
    /// How far back one can go. Default 30 s.
    pub back: Duration,
    /// Whether segments are made while nobody watches, so that going back is possible for the first one too.
    pub is_always_ready: bool,
}

impl Default for ViewingRules {
    fn default() -> Self {
        let (audience, nearness) = (Audience::default(), Nearness::default());
        Self { audience, nearness, back: Duration::from_secs(30), is_always_ready: false }
    }
}

impl ViewingRules {
    /// How segments are made for that.
    pub fn packaging(&self) -> PackagingRules {
        let usual = PackagingRules::default();
        let window = MediaTime::from_duration(self.back);
        match self.nearness {
            Nearness::Nearest | Nearness::Near => PackagingRules { window, ..usual },
            Nearness::Steady => PackagingRules { part: None, segment: MediaTime::from_millis(4_000), window, ..usual },
        }
    }
}
