use std::fs;
use std::io;
use std::path::PathBuf;
use std::sync::atomic::{AtomicU64, Ordering};

use waverant_relay::{Slate, SlateError, SlateSource};

/// The largest slate that is taken, in bytes.
pub const MAX_SLATE_BYTES: usize = 64 * 1024 * 1024;

/// The uploaded slates, one for each channel at most.
#[derive(Debug)]
pub struct SlateShelf {
    folder: PathBuf,
    /// Counts changes, so that running sessions notice them.
    version: AtomicU64,
}

impl SlateShelf {
    /// A shelf that is a folder; it is made when it is needed.
    pub fn new(folder: PathBuf) -> Self {
        Self { folder, version: AtomicU64::new(0) }
    }

    /// Keeps the slate of a channel. Blocks.
    ///
    /// # Errors
    /// What the system said.
    pub fn keep(&self, channel_id: u64, bytes: &[u8]) -> io::Result<()> {
        fs::create_dir_all(&self.folder)?;
        let (path, fresh) = (self.path(channel_id), self.folder.join(format!("{channel_id}.new")));
        // Beside its place and renamed: a show never reads half of it.
        fs::write(&fresh, bytes).and_then(|()| fs::rename(&fresh, &path))?;
        self.version.fetch_add(1, Ordering::Release);
        Ok(())
    }

    /// Removes the slate of a channel; false if there is none. Blocks.
    ///
    /// # Errors
    /// What the system said.
    pub fn remove(&self, channel_id: u64) -> io::Result<bool> {
        match fs::remove_file(self.path(channel_id)) {
            Ok(()) => {
                self.version.fetch_add(1, Ordering::Release);
                Ok(true)
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(false),
            Err(error) => Err(error),
        }
    }

    fn path(&self, channel_id: u64) -> PathBuf {
        self.folder.join(format!("{channel_id}.mp4"))
    }
}

impl SlateSource for SlateShelf {
    fn version(&self) -> u64 {
        self.version.load(Ordering::Acquire)
    }

    fn uploaded(&self, channel_id: u64) -> Result<Slate, SlateError> {
        match fs::read(self.path(channel_id)) {
            Ok(bytes) => Slate::from_mp4(&bytes.into()),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Err(SlateError::Missing),
            Err(error) => Err(error.into()),
        }
    }
}
