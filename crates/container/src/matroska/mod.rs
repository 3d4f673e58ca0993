//! Matroska: written cluster by cluster, read at any size, and read as it comes.
//!
//! Source: RFC 8794 (EBML), RFC 9559 (Matroska), Matroska codec mappings

mod block;
mod codec;
mod ebml;
mod entry;
mod head;
mod ids;
mod live;
mod reader;
mod repair;
mod writer;

#[cfg(test)]
mod tests;

pub use live::MatroskaReader;
pub(crate) use reader::ClusterReader;
pub(crate) use repair::repair;
pub use writer::ClusterWriter;

/// Nanoseconds in a tick of a file's timestamps, as we write them: a millisecond.
const TIMESTAMP_SCALE: u64 = 1_000_000;
