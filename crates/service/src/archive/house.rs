use std::fs::{self, OpenOptions};
use std::io;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use waverant_store::{CopyingError, write_records};

use super::{ABOUT, About, ArchiveError, FILES, FOLDERS, RECORDS, SETTINGS, Writer};

/// A house of which an archive is written.
#[derive(Clone, Copy, Debug)]
pub(crate) struct HouseToWrite<'a> {
    /// Where its records are.
    pub(crate) url: &'a str,
    pub(crate) state_folder: &'a Path,
    pub(crate) settings_file: Option<&'a Path>,
    /// True if no service runs: what waits to be written by one that does is its own.
    pub(crate) is_stopped: bool,
}

impl HouseToWrite<'_> {
    /// Writes the archive, and gives it its name when it is whole. One that is there is not overwritten. Returns the
    /// number of rows.
    pub(crate) async fn write(&self, target: &Path) -> Result<u64, ArchiveError> {
        let fresh = fresh_name(target);
        let written = self.write_to(&fresh).await;
        let done = written.and_then(|rows| {
            put(&fresh, target)?;
            Ok(rows)
        });
        let _ = fs::remove_file(&fresh);
        done
    }

    async fn write_to(&self, fresh: &Path) -> Result<u64, ArchiveError> {
        let file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(fresh)?;
        // It has no name: nobody else finds it, and nothing is left of it.
        let beside = fresh.parent().filter(|folder| folder.is_dir()).unwrap_or(Path::new("."));
        let mut text = tempfile::tempfile_in(beside)?;
        let mut buffered = io::BufWriter::new(&mut text);
        let rows = write_records(self.url, &mut buffered).await.map_err(|error| match error {
            CopyingError::File(error) => ArchiveError::File(error),
            error => ArchiveError::Foreign(error.to_string()),
        })?;
        buffered.into_inner().map_err(|error| ArchiveError::File(error.into_error()))?;
        let mut archive = Writer::new(file);
        let about = serde_json::to_vec(&About::now(rows)).map_err(|error| ArchiveError::Foreign(error.to_string()))?;
        archive.add_text(ABOUT, &about)?;
        if let Some(settings) = self.settings_file {
            archive.add_text(SETTINGS, &fs::read(settings)?)?;
        }
        archive.add_open(RECORDS, &mut text)?;
        let files = if self.is_stopped { &FILES[..] } else { &FILES[..1] };
        files.iter().try_for_each(|name| archive.add_file(self.state_folder, name))?;
        FOLDERS.iter().try_for_each(|name| archive.add_folder(self.state_folder, name))?;
        archive.finish()?;
        Ok(rows)
    }
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
