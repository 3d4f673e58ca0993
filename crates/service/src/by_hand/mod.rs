//! What whoever owns the machine does on its console, beside the service or while it is stopped.

mod backup;
mod let_in;
mod rekey;
mod restore;

use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use time::OffsetDateTime;
use waverant_relay::{Act, ActBy, ActOutcome};
use waverant_store::{PrivateServer, Store};

use crate::settings::Settings;
use crate::start::{StartError, open_database, open_store};
use crate::state_lock::StateLock;

pub use backup::{BackedUp, backup};
pub use let_in::{LetIn, let_in};
pub use rekey::{Rekeyed, rekey};
pub use restore::{Restored, restore};

/// The records of a house, whether its service runs or not.
struct Records {
    store: Store,
    /// Where they are.
    url: String,
    /// The database, if we had to start it.
    database: Option<PrivateServer>,
    /// Held while the service is stopped, so that it stays so.
    lock: Option<StateLock>,
}

impl Records {
    /// Of a house whose service may run meanwhile.
    async fn open(settings: &Settings) -> Result<Self, StartError> {
        must_be_ours(&settings.state_folder)?;
        match StateLock::take(&settings.state_folder) {
            Ok(lock) => Self::open_stopped(settings, lock).await,
            Err(error) => {
                let running = || PrivateServer::running(&settings.state_folder.join("database"), "waverant");
                let url = settings.database_url.clone().or_else(running).ok_or(error)?;
                let store = open_store(&url, &settings.state_folder).await?;
                Ok(Self { store, url, database: None, lock: None })
            }
        }
    }

    /// Of a house whose service is stopped, and stays so.
    async fn open_stopped(settings: &Settings, lock: StateLock) -> Result<Self, StartError> {
        let (database, url) = open_database(settings)?;
        let store = open_store(&url, &settings.state_folder).await?;
        Ok(Self { store, url, database, lock: Some(lock) })
    }

    /// True if no service runs, and none can be started meanwhile.
    fn is_stopped(&self) -> bool {
        self.lock.is_some()
    }

    /// Writes down that it was done at the machine.
    async fn note(&self, what: &str, subject: String) -> Result<(), StartError> {
        let act = Act {
            at: OffsetDateTime::now_utc(),
            person: String::new(),
            by: ActBy::Machine,
            token: String::new(),
            address: String::new(),
            what: what.to_owned(),
            channel: None,
            subject,
            outcome: ActOutcome::Done,
            reason: None,
            before: None,
            after: None,
            mark: String::new(),
        };
        Ok(self.store.write_act(&act).await?)
    }

    async fn close(self) {
        self.store.close().await;
        drop(self.database);
    }
}

/// What is wrong with a file or folder.
fn wrong_with(path: &Path, error: &dyn std::fmt::Display) -> StartError {
    StartError::Folder(format!("{}: {error}", path.display()))
}

/// Nothing is set up by hand that a service would not find, and nothing left that it could not read: root, who may
/// everything, would make files in its database that are not its own.
fn must_be_ours(state_folder: &Path) -> Result<(), StartError> {
    must_own(state_folder, state_folder.join("secrets.key"))
}

/// The same of a state folder in which there is no house yet.
fn must_own(state_folder: &Path, path: PathBuf) -> Result<(), StartError> {
    let owner = match path.metadata() {
        Ok(found) => found.uid(),
        Err(source) => return Err(StartError::File { path, source }),
    };
    let own = rustix::process::geteuid().as_raw();
    if own == owner { Ok(()) } else { Err(StartError::OtherUser { folder: state_folder.to_owned(), owner, own }) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_folder_of_somebody_else_is_left_alone() {
        let folder = tempfile::tempdir().unwrap();
        assert!(matches!(must_be_ours(folder.path()), Err(StartError::File { .. })));
        let file = folder.path().join("secrets.key");
        std::fs::write(&file, "key").unwrap();
        must_be_ours(folder.path()).unwrap();
        // Only root can give files away; others have nobody's files here.
        if rustix::process::geteuid().is_root() {
            std::os::unix::fs::chown(&file, Some(12_345), None).unwrap();
            let told = must_be_ours(folder.path()).unwrap_err().to_string();
            assert!(told.contains("belongs to user 12345") && told.contains("sudo -u '#12345'"), "{told}");
        }
    }
}
