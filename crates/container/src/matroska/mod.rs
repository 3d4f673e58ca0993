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

use thiserror::Error;

pub use live::MatroskaReader;
pub(crate) use reader::ClusterReader;
pub(crate) use repair::repair;
pub use writer::ClusterWriter;

/// Nanoseconds in a tick of a file's timestamps, as we write them: a millisecond.
const TIMESTAMP_SCALE: u64 = 1_000_000;

/// Why a file could not be read.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum MatroskaError {
    /// The EBML header names another kind of document.
    #[error("the document is `{found}`, and `matroska` or `webm` was expected")]
    DocType {
        /// What it names.
        found: String,
    },
    /// It cannot be read by readers of our version.
    #[error("the document wants a reader of version {found}; this is one of version 4")]
    Version {
        /// What it wants.
        found: u64,
    },
    /// The segment or its tracks are not there.
    #[error("the file ends before its {0}")]
    Missing(&'static str),
    /// An element's header is none, or it has a length that it must not have.
    #[error("damaged element at byte {at}")]
    Damaged {
        /// Where in the file.
        at: u64,
    },
    /// A track's codec configuration is damaged.
    #[error("track {track}: {reason}")]
    Codec {
        /// The track's number in the file.
        track: u64,
        /// What is wrong.
        reason: String,
    },
}
