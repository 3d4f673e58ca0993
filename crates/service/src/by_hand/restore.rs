use std::fs::{self, File};
use std::io::{self, BufReader};
use std::path::Path;

use time::OffsetDateTime;
use waverant_store::read_records;

use super::{Records, must_own, wrong_with};
use crate::archive::{FILES, FOLDERS, RECORDS, SETTINGS, unpack, waiting_room};
use crate::settings::Settings;
use crate::start::{StartError, open_database, prepare_machine};
use crate::state_lock::StateLock;

/// What came of it.
#[derive(Clone, Debug)]
pub struct Restored {
    /// Rows of the records.
    pub rows: u64,
    /// When the backup was made.
    pub made_at: OffsetDateTime,
}

/// Sets up a house from a backup, in a state folder and a database in which there is none. Whatever breaks this off, the
/// root key comes last: without it there is no house, and the next try begins anew.
///
/// # Errors
/// [`StartError`] that says what to do.
pub async fn restore(settings: &Settings, archive: &Path) -> Result<Restored, StartError> {
    let folder = &settings.state_folder;
    prepare_machine(settings)?;
    must_own(folder, folder.clone())?;
    if folder.join(FILES[0]).exists() {
        return Err(wrong_with(folder, &"a house is in it already; name an empty state folder in the settings"));
    }
    let lock = StateLock::take(folder)?;
    let room = waiting_room(folder);
    let failed = |error: io::Error| wrong_with(&room, &error);
    if room.exists() {
        // Of a try that was broken off; so is its private database.
        fs::remove_dir_all(&room).map_err(failed)?;
        if settings.database_url.is_none() {
            let _ = fs::remove_dir_all(folder.join("database"));
        }
    }
    fs::create_dir(&room).map_err(failed)?;
    let about = match unpack(archive, &room) {
        Ok(about) => about,
        Err(error) => {
            let _ = fs::remove_dir_all(&room);
            return Err(wrong_with(archive, &error));
        }
    };
    let (database, url) = open_database(settings)?;
    let text = File::open(room.join(RECORDS)).map_err(failed)?;
    let rows = read_records(&url, BufReader::new(text)).await.map_err(|error| wrong_with(archive, &error))?;
    drop(database);
    place(&room, folder).map_err(failed)?;
    let records = Records::open_stopped(settings, lock).await?;
    records.note("restore", archive.display().to_string()).await?;
    records.close().await;
    Ok(Restored { rows, made_at: about.made_at })
}

/// Puts what was unpacked into its place. The settings are left to be compared with those in use.
fn place(room: &Path, folder: &Path) -> io::Result<()> {
    for name in FOLDERS.into_iter().chain(FILES[1..].iter().copied()) {
        if room.join(name).exists() {
            let there = folder.join(name);
            // An empty one may have been made by a start.
            let _ = fs::remove_dir(&there);
            fs::rename(room.join(name), there)?;
        }
    }
    if room.join(SETTINGS).exists() {
        fs::rename(room.join(SETTINGS), folder.join("restored-settings.toml"))?;
    }
    File::open(folder)?.sync_all()?;
    fs::rename(room.join(FILES[0]), folder.join(FILES[0]))?;
    fs::remove_dir_all(room)?;
    File::open(folder)?.sync_all()
}
