//! Viewers over HTTP: one that follows playlists, and one that takes a picture at a time.

mod pictures;
mod playlists;

pub use pictures::{PicturesReport, watch_pictures};
pub use playlists::{ViewerOptions, ViewerReport, watch_playlists};
