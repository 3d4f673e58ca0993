use std::fs::{self, OpenOptions};
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::error::Failure;

/// The service that was signed in to.
#[derive(Clone, Serialize, Deserialize)]
pub(crate) struct Account {
    pub(crate) url: String,
    pub(crate) token: String,
}

impl Account {
    /// From the environment, else from the file of the last sign-in.
    pub(crate) fn load() -> Result<Self, Failure> {
        if let (Ok(url), Ok(token)) = (std::env::var("WAVERANT_URL"), std::env::var("WAVERANT_TOKEN")) {
            return Ok(Self { url: tidy(&url), token });
        }
        let path = file();
        let text = match fs::read_to_string(&path) {
            Ok(text) => text,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Err(Failure::NoAccount),
            Err(source) => return Err(Failure::File { path, source }),
        };
        toml::from_str(&text).map_err(|error| {
            Failure::Usage(format!("{}: {}; sign in anew to replace it", path.display(), error.message()))
        })
    }

    /// Keeps the account for later commands, readable by its owner only.
    pub(crate) fn save(&self) -> Result<PathBuf, Failure> {
        let path = file();
        write_private(&path, &toml::to_string(self).unwrap_or_default())
            .map_err(|source| Failure::File { path: path.clone(), source })?;
        Ok(path)
    }

    pub(crate) fn forget() {
        let _ = fs::remove_file(file());
    }
}

/// An address without a slash at its end; `http://` where no scheme is given.
pub(crate) fn tidy(url: &str) -> String {
    let url = url.trim().trim_end_matches('/');
    if url.contains("://") { url.to_owned() } else { format!("http://{url}") }
}

fn file() -> PathBuf {
    let base = std::env::var_os("XDG_CONFIG_HOME").map(PathBuf::from);
    let base = base.or_else(|| std::env::var_os("HOME").map(|home| PathBuf::from(home).join(".config")));
    base.unwrap_or_else(|| PathBuf::from(".")).join("waverant").join("account.toml")
}

/// Writes a file that its owner alone reads, in one go.
pub(crate) fn write_private(path: &Path, text: &str) -> std::io::Result<()> {
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder)?;
    }
    // Beside it, and under no name that somebody else's file has.
    let mut fresh = path.as_os_str().to_owned();
    fresh.push(".waverant-new");
    let fresh = PathBuf::from(fresh);
    let mut file = OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&fresh)?;
    file.write_all(text.as_bytes())?;
    fs::rename(fresh, path)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_tidied() {
        assert_eq!(tidy("relay.test:7800/"), "http://relay.test:7800");
        assert_eq!(tidy("https://relay.test"), "https://relay.test");
    }
}
