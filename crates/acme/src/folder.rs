use std::fs::{self, File, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

use instant_acme::AccountCredentials;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use crate::{Fault, certificate_file};

/// The certificate with those above it, and its key.
pub const CERTIFICATE_FILE: &str = "certificate.pem";

const ACCOUNT_FILE: &str = "account.json";
const ORDER_FILE: &str = "order.json";

/// Our account with an authority.
#[derive(Serialize, Deserialize)]
pub(crate) struct StoredAccount {
    pub(crate) directory: String,
    pub(crate) contacts: Vec<String>,
    pub(crate) credentials: AccountCredentials,
}

/// An order that is not at its end, and the key that its certificate will be for.
#[derive(Serialize, Deserialize)]
pub(crate) struct StoredOrder {
    pub(crate) directory: String,
    pub(crate) names: Vec<String>,
    pub(crate) url: String,
    pub(crate) key: String,
}

/// What is kept on the disk, for its owner alone: a stop between two steps loses nothing.
#[derive(Debug)]
pub(crate) struct Folder(PathBuf);

impl Folder {
    pub(crate) fn open(path: &Path) -> Result<Self, Fault> {
        let made = fs::DirBuilder::new().recursive(true).mode(0o700).create(path);
        made.map_err(|error| Fault::disk(&path.display().to_string(), &error))?;
        Ok(Self(path.to_owned()))
    }

    pub(crate) fn account(&self, directory: &str) -> Option<StoredAccount> {
        self.read(ACCOUNT_FILE).filter(|account: &StoredAccount| account.directory == directory)
    }

    pub(crate) fn keep_account(&self, account: &StoredAccount) -> Result<(), Fault> {
        self.write_json(ACCOUNT_FILE, account)
    }

    pub(crate) fn order(&self, directory: &str, names: &[String]) -> Option<StoredOrder> {
        self.read(ORDER_FILE).filter(|order: &StoredOrder| order.directory == directory && order.names == names)
    }

    pub(crate) fn keep_order(&self, order: &StoredOrder) -> Result<(), Fault> {
        self.write_json(ORDER_FILE, order)
    }

    pub(crate) fn forget_order(&self) {
        self.forget(ORDER_FILE);
    }

    /// The authority does not know our account any more: what was begun with it is lost, too.
    pub(crate) fn forget_account(&self) {
        self.forget(ACCOUNT_FILE);
        self.forget(ORDER_FILE);
    }

    /// Certificate and key in one file, so that nobody ever sees one of them without the other.
    pub(crate) fn keep_certificate(&self, chain: &str, key: &str) -> Result<(), Fault> {
        self.write(CERTIFICATE_FILE, &format!("{}\n{key}", chain.trim_end()))
    }

    /// A file that cannot be read is as good as none: all but the certificate can be had again.
    fn read<T: DeserializeOwned>(&self, name: &str) -> Option<T> {
        let path = self.0.join(name);
        let text = match fs::read_to_string(&path) {
            Ok(text) => text,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return None,
            Err(error) => {
                tracing::warn!(file = %path.display(), %error, "cannot be read; it is made anew");
                return None;
            }
        };
        let read = serde_json::from_str(&text);
        // The text holds secrets, and so may what is said of it.
        read.inspect_err(|_| tracing::warn!(file = %path.display(), "is damaged; it is made anew")).ok()
    }

    fn write_json(&self, name: &str, value: &impl Serialize) -> Result<(), Fault> {
        self.write(name, &serde_json::to_string(value).map_err(|error| Fault::ours(&error))?)
    }

    fn write(&self, name: &str, text: &str) -> Result<(), Fault> {
        let path = self.0.join(name);
        let fresh = path.with_extension("new");
        let write = || {
            // One that a stop left there could have another mode.
            let _ = fs::remove_file(&fresh);
            let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&fresh)?;
            file.write_all(text.as_bytes())?;
            file.sync_all()?;
            fs::rename(&fresh, &path)?;
            File::open(&self.0)?.sync_all()
        };
        write().map_err(|error| Fault::disk(&path.display().to_string(), &error))
    }

    fn forget(&self, name: &str) {
        match fs::remove_file(self.0.join(name)) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => {
                tracing::warn!(file = name, %error, "cannot be removed");
            }
            _ => {}
        }
    }
}

/// Files in the folder that are for their owner alone.
pub fn secret_files(folder: &Path) -> [PathBuf; 3] {
    [certificate_file(folder), folder.join(ACCOUNT_FILE), folder.join(ORDER_FILE)]
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use super::*;

    #[test]
    fn what_is_kept_is_for_its_owner_and_what_is_damaged_is_not_there() {
        let ground = tempfile::tempdir().unwrap();
        let folder = Folder::open(&ground.path().join("certificate")).unwrap();
        let order = StoredOrder {
            directory: "https://authority.test/".to_owned(),
            names: vec!["relay.test".to_owned()],
            url: "https://authority.test/orders/1".to_owned(),
            key: "sluice".to_owned(),
        };
        folder.keep_order(&order).unwrap();
        assert_eq!(folder.order(&order.directory, &order.names).unwrap().key, "sluice");
        assert!(folder.order("https://elsewhere.test/", &order.names).is_none());
        assert!(folder.order(&order.directory, &["watch.test".to_owned()]).is_none());
        let file = ground.path().join("certificate/order.json");
        assert_eq!(fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o600);
        fs::write(&file, &fs::read(&file).unwrap()[..20]).unwrap();
        assert!(folder.order(&order.directory, &order.names).is_none());
        folder.keep_order(&order).unwrap();
        folder.forget_account();
        assert!(!file.exists());
    }
}
