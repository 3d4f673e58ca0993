use std::fs::{File, OpenOptions, TryLockError};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use crate::start::StartError;

/// Held by whoever works in the state folder: a second service would stop the first one's database.
#[derive(Debug)]
pub(crate) struct StateLock(#[expect(dead_code, reason = "the lock lasts as long as the file is open")] File);

impl StateLock {
    /// Takes it, if nobody has it.
    pub(crate) fn take(state_folder: &Path) -> Result<Self, StartError> {
        let path = state_folder.join("in-use");
        let failed = |source| StartError::File { path: path.clone(), source };
        let file = OpenOptions::new().write(true).create(true).truncate(false).mode(0o600).open(&path);
        let file = file.map_err(failed)?;
        match file.try_lock() {
            Ok(()) => Ok(Self(file)),
            Err(TryLockError::WouldBlock) => Err(StartError::InUse(state_folder.to_owned())),
            Err(TryLockError::Error(source)) => Err(failed(source)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_held_by_one() {
        let folder = tempfile::tempdir().unwrap();
        let first = StateLock::take(folder.path()).unwrap();
        let told = StateLock::take(folder.path()).unwrap_err().to_string();
        assert!(told.contains("another waverantd runs with it"), "{told}");
        drop(first);
        StateLock::take(folder.path()).unwrap();
    }
}
