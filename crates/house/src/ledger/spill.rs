use std::fs::{self, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use super::pending::Entry;

/// Name of the file in the state folder.
const FILE_NAME: &str = "unwritten-records.json";

/// The file that holds what could not be written into the database, so that a stop or a kill
/// loses nothing of it.
#[derive(Clone, Debug)]
pub(super) struct Spill(PathBuf);

impl Spill {
    pub(super) fn new(state_folder: &Path) -> Self {
        Self(state_folder.join(FILE_NAME))
    }

    pub(super) fn path(&self) -> &Path {
        &self.0
    }

    /// What an earlier run left.
    pub(super) fn read(&self) -> io::Result<Vec<Entry>> {
        match fs::read(&self.0) {
            Ok(bytes) => serde_json::from_slice(&bytes).map_err(io::Error::from),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Vec::new()),
            Err(error) => Err(error),
        }
    }

    /// Replaces what is there. A crash in between leaves the old file.
    pub(super) fn write(&self, entries: &[Entry]) -> io::Result<()> {
        let fresh = self.0.with_extension("new");
        let mut file = OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&fresh)?;
        file.write_all(&serde_json::to_vec(entries)?)?;
        file.sync_all()?;
        fs::rename(&fresh, &self.0)
    }

    pub(super) fn remove(&self) -> io::Result<()> {
        match fs::remove_file(&self.0) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
            _ => Ok(()),
        }
    }
}
