//! MP4: written with fragments and without, read with and without.
//!
//! Source: ISO/IEC 14496-12, 14496-14 and 14496-15

mod box_reader;
mod boxes;
mod clock;
mod fields;
mod fragment;
mod index;
mod init;
mod limits;
mod mark;
mod movie;
mod plain_tables;
mod raw_sample;
mod reader;
mod repair;
mod sample_entry;
mod tables;
mod writer;

#[cfg(test)]
mod tests;

pub(crate) use box_reader::BoxReader;
pub(crate) use boxes::BoxWriter;
pub(crate) use clock::SampleClock;
pub(crate) use init::{Init, InitTrack, MOVIE_TIMESCALE, write_live_init, write_plain_init};
pub(crate) use plain_tables::PlainTables;
pub use reader::{Mp4File, Mp4Sample, Mp4Track};
pub(crate) use repair::repair;
pub use writer::FragmentWriter;

/// Sample flags of a sample that depends on no other.
///
/// Source: ISO/IEC 14496-12, 8.8.3.1
pub(crate) const SYNC_SAMPLE: u32 = 0x0200_0000;

/// Sample flags of a sample that depends on others and is no sync sample.
pub(crate) const DEPENDENT_SAMPLE: u32 = 0x0101_0000;

/// The bit of the sample flags that says "no sync sample".
const NON_SYNC_BIT: u32 = 0x0001_0000;
