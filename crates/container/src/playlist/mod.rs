//! Playlists and manifests over CMAF pieces.

#[cfg(any(test, feature = "testing"))]
mod check;
mod media;
mod mpd;
mod multivariant;
mod names;

#[cfg(test)]
mod tests;

#[cfg(any(test, feature = "testing"))]
pub use check::{PlaylistCheck, PlaylistFault};
pub use media::{MediaPlaylist, PlaylistPart, PlaylistSegment, RenditionReport};
pub use mpd::{Manifest, ManifestPeriod, ManifestSegment, ManifestTrack};
pub use multivariant::{MultivariantPlaylist, Rendition, VariantFacts};
pub use names::PieceName;

/// A text as a quoted string of a playlist can hold it.
///
/// Source: RFC 8216bis, 4.2
fn quotable(text: &str) -> String {
    text.chars().map(|c| if c == '"' || c.is_control() { '\'' } else { c }).collect()
}
