use std::fs::{self, OpenOptions};
use std::io;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use waverant_store::{CopyingError, write_records};

use super::archive::{ABOUT, About, ArchiveError, FILES, FOLDERS, RECORDS, SETTINGS, Writer};
use super::{Records, wrong_with};
use crate::settings::Settings;
use crate::start::StartError;

/// What a backup holds.
#[derive(Clone, Debug)]
pub struct BackedUp {
    /// Rows of the records.
    pub rows: u64,
    /// Its size, in bytes.
    pub bytes: u64,
}

/// Writes records as they are at one moment, keys, settings, slates and posters into one file, whether the service runs
/// or not. The file opens the house: it is made for its owner alone.
///
/// # Errors
/// [`StartError`] that says what to do; there must be no such file yet.
pub async fn backup(settings: &Settings, settings_file: &Path, target: &Path) -> Result<BackedUp, StartError> {
    let failed = |error: &dyn std::fmt::Display| wrong_with(target, error);
    if target.exists() {
        return Err(failed(&"it is there already; choose another name"));
    }
    let records = Records::open(settings).await?;
    let fresh = fresh_name(target);
    let written = write(settings, settings_file, &records, &fresh).await;
    let done = written.and_then(|rows| {
        let bytes = fs::metadata(&fresh)?.len();
        put(&fresh, target)?;
        Ok(BackedUp { rows, bytes })
    });
    let _ = fs::remove_file(&fresh);
    let done = done.map_err(|error| failed(&error))?;
    records.note("backup", target.display().to_string()).await?;
    records.close().await;
    Ok(done)
}

/// Gives the file its name. One that somebody took meanwhile is not overwritten; media that know no second name of a file
/// are looked at just before.
fn put(fresh: &Path, target: &Path) -> io::Result<()> {
    match fs::hard_link(fresh, target) {
        Err(error) if error.kind() != io::ErrorKind::AlreadyExists && !target.exists() => fs::rename(fresh, target),
        linked => linked,
    }
}

fn fresh_name(target: &Path) -> PathBuf {
    let mut name = target.file_name().unwrap_or_default().to_owned();
    name.push(format!(".{}", std::process::id()));
    target.with_file_name(name)
}

async fn write(
    settings: &Settings,
    settings_file: &Path,
    records: &Records,
    fresh: &Path,
) -> Result<u64, ArchiveError> {
    let file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(fresh)?;
    // It has no name: nobody else finds it, and nothing is left of it.
    let mut text = tempfile::tempfile_in(fresh.parent().filter(|folder| folder.is_dir()).unwrap_or(Path::new(".")))?;
    let mut buffered = io::BufWriter::new(&mut text);
    let rows = write_records(&records.url, &mut buffered).await.map_err(|error| match error {
        CopyingError::File(error) => ArchiveError::File(error),
        error => ArchiveError::Foreign(error.to_string()),
    })?;
    buffered.into_inner().map_err(|error| ArchiveError::File(error.into_error()))?;
    let mut archive = Writer::new(file);
    let about = serde_json::to_vec(&About::now(rows)).map_err(|error| ArchiveError::Foreign(error.to_string()))?;
    archive.add_text(ABOUT, &about)?;
    archive.add_text(SETTINGS, &fs::read(settings_file)?)?;
    archive.add_open(RECORDS, &mut text)?;
    let folder = &settings.state_folder;
    // What waits to be written by a service that runs is its own.
    let files = if records.is_stopped() { &FILES[..] } else { &FILES[..1] };
    files.iter().try_for_each(|name| archive.add_file(folder, name))?;
    FOLDERS.iter().try_for_each(|name| archive.add_folder(folder, name))?;
    archive.finish()?;
    Ok(rows)
}
