use std::fs;
use std::path::Path;

use super::{Records, wrong_with};
use crate::archive::HouseToWrite;
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
    let house = HouseToWrite {
        url: &records.url,
        state_folder: &settings.state_folder,
        settings_file: Some(settings_file),
        is_stopped: records.is_stopped(),
    };
    let rows = house.write(target).await.map_err(|error| failed(&error))?;
    let bytes = fs::metadata(target).map_err(|error| failed(&error))?.len();
    records.note("backup", target.display().to_string()).await?;
    records.close().await;
    Ok(BackedUp { rows, bytes })
}
