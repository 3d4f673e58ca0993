//! A backup before the tables are brought up to date, so that the version before can be had again.

use std::fs;
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};

use time::OffsetDateTime;
use waverant_store::{StoreError, outdated_schema};

use crate::archive::{ArchiveError, HouseToWrite};

/// How many such backups are kept; the oldest go.
const KEPT: usize = 3;

/// What their names begin with.
const NAME: &str = "before-schema-";

/// Why none could be made.
#[derive(Debug, thiserror::Error)]
pub(crate) enum NoBackup {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(
        "{}: the backup before the tables are brought up to date cannot be written: {source}; make room there, or start \
         the version before",
        path.display()
    )]
    File { path: PathBuf, source: ArchiveError },
}

/// Makes one if there are tables of an earlier version, and says so.
pub(crate) async fn back_up(url: &str, state_folder: &Path) -> Result<(), NoBackup> {
    let Some((found, known)) = outdated_schema(url).await? else { return Ok(()) };
    let folder = state_folder.join("backups");
    let failed = |path: &Path| {
        let path = path.to_owned();
        |source| NoBackup::File { path, source }
    };
    let made = fs::DirBuilder::new().recursive(true).mode(0o700).create(&folder);
    made.map_err(ArchiveError::File).map_err(failed(&folder))?;
    let target = folder.join(format!("{NAME}{known:04}-{}.tar.gz", OffsetDateTime::now_utc().unix_timestamp()));
    let house = HouseToWrite { url, state_folder, settings_file: None, is_stopped: true };
    let rows = house.write(&target).await.map_err(failed(&target))?;
    tracing::info!(file = %target.display(), rows, found, known, "a backup before the tables are brought up to date");
    forget_oldest(&folder);
    Ok(())
}

/// What a start left that was killed meanwhile goes as well: it is no whole archive.
fn forget_oldest(folder: &Path) {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let is_ours =
        |path: &PathBuf| path.file_name().and_then(|name| name.to_str()).is_some_and(|name| name.starts_with(NAME));
    let mut ours: Vec<PathBuf> = entries.map(|entry| entry.path()).filter(is_ours).collect();
    ours.sort();
    let cut: Vec<PathBuf> = ours.extract_if(.., |path| path.extension().is_none_or(|end| end != "gz")).collect();
    let beyond = ours.len().saturating_sub(KEPT);
    for old in cut.iter().chain(&ours[..beyond]) {
        if let Err(error) = fs::remove_file(old) {
            tracing::warn!(file = %old.display(), %error, "an old backup stays");
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_newest_whole_ones_stay() {
        let folder = tempfile::tempdir().unwrap();
        let whole = ["0026-10", "0027-20", "0027-30", "0028-40"].map(|name| format!("{NAME}{name}.tar.gz"));
        let cut = format!("{NAME}0029-50.tar.gz.4711");
        for name in whole.iter().chain([&cut, &"mine".to_owned()]) {
            fs::write(folder.path().join(name), "").unwrap();
        }
        forget_oldest(folder.path());
        let mut left: Vec<_> = fs::read_dir(folder.path()).unwrap().map(|entry| entry.unwrap().file_name()).collect();
        left.sort();
        let expected: Vec<&str> = whole[1..].iter().map(String::as_str).chain(["mine"]).collect();
        assert_eq!(left, expected);
    }
}
