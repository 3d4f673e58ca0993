use bytes::Bytes;
use waverant_media::MediaTime;

use crate::cutting::Patch;

/// What makes a file whole whose writer was killed.
#[derive(Clone, Debug)]
pub struct Repair {
    /// The file is cut to this length,
    pub keep_bytes: u64,
    /// which removes so many bytes of an unfinished fragment or index;
    pub removed_bytes: u64,
    /// then this is appended,
    pub append: Bytes,
    /// and these are written over what is there.
    pub patches: Vec<Patch>,
    /// How long it plays then.
    pub duration: MediaTime,
}
