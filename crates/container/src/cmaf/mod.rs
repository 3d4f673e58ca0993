//! CMAF: a track as a header and pieces of it that can be sent one by one.
//!
//! A piece is a `moof` with its `mdat`; any run of pieces that begins behind the header can be played. Each track
//! has files of its own, as HLS and DASH want it. There is no edit: pictures that are shown later than they are
//! decoded say so by signed offsets, the same way for all tracks, so that they stay together.
//!
//! Source: ISO/IEC 23000-19, 7.3; ISO/IEC 14496-12, 8.8

mod parameter_sets;
mod piece;
mod timeline;

#[cfg(test)]
mod tests;

pub use piece::{CmafPiece, write_cmaf_header, write_cmaf_piece};
pub use timeline::{CmafSample, CmafTimeline};
