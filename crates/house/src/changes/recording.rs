use waverant_model::{ChangeRecording, TakeFormat};
use waverant_relay::{HubLimits, NameTemplate};
use waverant_store::RecordingSettings;

use crate::HouseError;
use crate::words::mode_of;

/// The shortest take that a rule may make, and the smallest.
const MIN_SPLIT_MS: u32 = 1_000;
const MIN_SPLIT_BYTES: u64 = 1_000_000;

/// The rules after a change.
pub(super) fn changed(change: ChangeRecording, present: RecordingSettings) -> Result<RecordingSettings, HouseError> {
    let settings = RecordingSettings {
        mode: change.when.map_or(present.mode, mode_of),
        matroska: change.format.map_or(present.matroska, |format| format == TakeFormat::Matroska),
        split_ms: change.split_ms.unwrap_or(present.split_ms),
        split_bytes: change.split_bytes.unwrap_or(present.split_bytes),
        split_at_return: change.split_at_return.unwrap_or(present.split_at_return),
        names: change.names.unwrap_or(present.names),
        pre_roll_ms: change.pre_roll_ms.unwrap_or(present.pre_roll_ms),
        keep_s: change.keep_s.unwrap_or(present.keep_s),
        keep_count: change.keep_count.unwrap_or(present.keep_count),
        keep_bytes: change.keep_bytes.unwrap_or(present.keep_bytes),
        depot: change.depot.map_or(present.depot, |depot| (!depot.is_empty()).then_some(depot)),
        removes_copied: change.removes_copied.unwrap_or(present.removes_copied),
    };
    check(&settings)?;
    Ok(settings)
}

fn check(settings: &RecordingSettings) -> Result<(), HouseError> {
    let invalid = |field: &'static str, text: String| Err(HouseError::invalid(field, text));
    if (1..MIN_SPLIT_MS).contains(&settings.split_ms) {
        let text = format!("{} is less than {MIN_SPLIT_MS}; 0 is no limit", settings.split_ms);
        return invalid("recording.split_ms", text);
    }
    if (1..MIN_SPLIT_BYTES).contains(&settings.split_bytes) {
        let text = format!("{} is less than {MIN_SPLIT_BYTES}; 0 is no limit", settings.split_bytes);
        return invalid("recording.split_bytes", text);
    }
    let most = u32::try_from(HubLimits::default().max_length.millis()).unwrap_or(u32::MAX);
    if settings.pre_roll_ms > most {
        return invalid("recording.pre_roll_ms", format!("{} is more than {most}", settings.pre_roll_ms));
    }
    if settings.removes_copied && settings.depot.is_none() {
        return invalid("recording.removes_copied", "it needs a depot that takes are copied to".to_owned());
    }
    match settings.names.parse::<NameTemplate>() {
        Ok(_) => Ok(()),
        Err(error) => invalid("recording.names", error.to_string()),
    }
}
