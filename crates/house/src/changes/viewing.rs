use std::time::Duration;

use waverant_model::ChangeViewing;
use waverant_relay::ViewingRules;

use crate::HouseError;
use crate::words::{audience_of, nearness_of};

/// How far back one can go: as far as segments are held in memory.
const BACK_MS: std::ops::RangeInclusive<u32> = 10_000..=120_000;

/// The rules after a change.
pub(super) fn changed(form: &ChangeViewing, present: ViewingRules) -> Result<ViewingRules, HouseError> {
    if let Some(back_ms) = form.back_ms.filter(|back_ms| !BACK_MS.contains(back_ms)) {
        let told = format!("{back_ms} is not between {} and {}", BACK_MS.start(), BACK_MS.end());
        return Err(HouseError::invalid("viewing.back_ms", told));
    }
    Ok(ViewingRules {
        audience: form.audience.map_or(present.audience, audience_of),
        nearness: form.nearness.map_or(present.nearness, nearness_of),
        back: form.back_ms.map_or(present.back, |back_ms| Duration::from_millis(back_ms.into())),
        is_always_ready: form.is_always_ready.unwrap_or(present.is_always_ready),
    })
}
