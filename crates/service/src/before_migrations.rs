//! A backup before the tables are brought up to date, so that the version before can be had again.

use std::fs;
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};

use time::OffsetDateTime;
use waverant_store::{StoreError, other_schema};

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
    #[error(
        "the records are of a newer version (tables {found}; this version knows {known}). Start that version again, or go \
         back to what was before it: move the state folder away, and {}",
        way_back(backup.as_deref())
    )]
    Newer { found: i64, known: i64, backup: Option<PathBuf> },
}

fn way_back(backup: Option<&Path>) -> String {
    let file = backup.map_or("a backup of that time".to_owned(), |backup| backup.display().to_string());
    format!("have an empty one set up from {file}: `waverantd restore FILE`")
}

/// Makes one if there are tables of an earlier version, and says so.
pub(crate) async fn back_up(url: &str, state_folder: &Path) -> Result<(), NoBackup> {
    let Some((found, known)) = other_schema(url).await? else { return Ok(()) };
    let folder = state_folder.join("backups");
    if found > known {
        return Err(NoBackup::Newer { found, known, backup: last_before(&folder, known) });
    }
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

/// The newest of those that hold no later tables than are known: made when the next ones came.
fn last_before(folder: &Path, known: i64) -> Option<PathBuf> {
    let mut fitting: Vec<(i64, PathBuf)> = backups_of(folder)
        .0
        .into_iter()
        .filter_map(|path| {
            let schema = path.file_name()?.to_str()?.strip_prefix(NAME)?.split('-').next()?.parse().ok()?;
            Some((schema, path))
        })
        .filter(|(schema, _)| *schema > known)
        .collect();
    fitting.sort();
    let nearest = fitting.first()?.0;
    fitting.into_iter().take_while(|(schema, _)| *schema == nearest).last().map(|(_, path)| path)
}

/// The backups of a folder: whole ones, and those that were cut off.
fn backups_of(folder: &Path) -> (Vec<PathBuf>, Vec<PathBuf>) {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let is_ours =
        |path: &PathBuf| path.file_name().and_then(|name| name.to_str()).is_some_and(|name| name.starts_with(NAME));
    let ours = entries.map(|entry| entry.path()).filter(is_ours);
    ours.partition(|path| path.extension().is_some_and(|end| end == "gz"))
}

/// What a start left that was killed meanwhile goes as well: it is no whole archive.
fn forget_oldest(folder: &Path) {
    let (mut ours, cut) = backups_of(folder);
    ours.sort();
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
        let back_to =
            |known| last_before(folder.path(), known).and_then(|path| path.file_name()?.to_str().map(str::to_owned));
        assert_eq!(back_to(26).as_ref(), Some(&whole[2]), "the last before tables 27 came");
        assert_eq!((back_to(27).as_ref(), back_to(28)), (Some(&whole[3]), None));
        let expected: Vec<&str> = whole[1..].iter().map(String::as_str).chain(["mine"]).collect();
        assert_eq!(left, expected);
    }
}
