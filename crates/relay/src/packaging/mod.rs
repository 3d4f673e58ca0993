//! From a session's packets to what viewers fetch: segments and parts of CMAF, track by track, and the playlists
//! that name them.

mod outside;
mod packager;
mod pictures;
mod plan;
mod press;
mod segment;
mod shelf;
mod telling;
mod track;
mod wall_clock;

#[cfg(test)]
mod disk_tests;
#[cfg(test)]
mod tests;

use waverant_media::MediaTime;

pub use outside::{OutsideShow, WholeSegment};
pub use packager::Packager;
pub use pictures::{PictureMessage, PictureMux};
pub use press::{PicturePress, SharedPiece};
pub use segment::Piece;
pub use shelf::Found;
pub use telling::Position;
pub use wall_clock::WallClock;

/// How a channel is packaged.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PackagingRules {
    /// How long segments should be; they end at keyframes. Default 2 s.
    pub segment: MediaTime,
    /// How long parts should be; none for players that want no low delay. Default 200 ms.
    pub part: Option<MediaTime>,
    /// How far back one can go. Default 30 s; never less than four segments.
    pub window: MediaTime,
    /// How much of that stays in memory; what is older lies on a disk, if there is one. Default all.
    pub in_memory: Option<MediaTime>,
    /// The most memory that all tracks together hold, headers and payloads. Default 64 MiB.
    pub max_bytes: u64,
}

impl Default for PackagingRules {
    fn default() -> Self {
        Self {
            segment: MediaTime::from_millis(2_000),
            part: Some(MediaTime::from_millis(200)),
            window: MediaTime::from_millis(30_000),
            in_memory: None,
            max_bytes: 64 * 1024 * 1024,
        }
    }
}
