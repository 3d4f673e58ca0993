use std::fs::{File, OpenOptions, TryLockError};
use std::io;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use thiserror::Error;

/// Why the state folder is not ours.
#[derive(Debug, Error)]
pub enum StateLockError {
    /// Somebody works there.
    #[error("{}: another waverantd runs with it; stop that one first", .0.display())]
    Held(PathBuf),
    /// The file cannot be made or locked.
    #[error("{}: {source}", path.display())]
    File {
        /// The file.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
}

/// Held by whoever works in the state folder: a second service would stop the first one's database.
#[derive(Debug)]
pub(crate) struct StateLock(#[expect(dead_code, reason = "the lock lasts as long as the file is open")] File);

impl StateLock {
    /// Takes it, if nobody has it.
    pub(crate) fn take(state_folder: &Path) -> Result<Self, StateLockError> {
        let path = state_folder.join("in-use");
        let failed = |source| StateLockError::File { path: path.clone(), source };
        let file = OpenOptions::new().write(true).create(true).truncate(false).mode(0o600).open(&path);
        let file = file.map_err(failed)?;
        match file.try_lock() {
            Ok(()) => Ok(Self(file)),
            Err(TryLockError::WouldBlock) => Err(StateLockError::Held(state_folder.to_owned())),
            Err(TryLockError::Error(source)) => Err(failed(source)),
        }
    }

    /// Whether somebody has it. Nothing is made where there is nothing.
    pub(crate) fn is_held(state_folder: &Path) -> bool {
        let file = File::open(state_folder.join("in-use"));
        file.is_ok_and(|file| matches!(file.try_lock_shared(), Err(TryLockError::WouldBlock)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_held_by_one() {
        let folder = tempfile::tempdir().unwrap();
        assert!(!StateLock::is_held(folder.path()));
        let first = StateLock::take(folder.path()).unwrap();
        assert!(StateLock::is_held(folder.path()));
        let told = StateLock::take(folder.path()).unwrap_err().to_string();
        assert!(told.contains("another waverantd runs with it"), "{told}");
        drop(first);
        assert!(!StateLock::is_held(folder.path()));
        StateLock::take(folder.path()).unwrap();
    }
}
