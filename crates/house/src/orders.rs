use std::time::Duration;

use waverant_media::MediaTime;
use waverant_model::{SheetAction, SheetForm};
use waverant_relay::{
    AudioChoice, LegDestination, LegOrder, LimitsSheet, MissingSound, OnBreach, Otherwise, SinkRules,
};
use waverant_store::{Destination, DestinationSettings, Sending};

/// What a leg is to do that sends to `destination`.
pub fn leg_order(destination: Destination, sending: Sending) -> LegOrder {
    let settings = &destination.settings;
    let limits = sheet_of(&read_sheet(settings.limits_sheet.as_deref()));
    let takes = limits.video_codecs.iter().chain(&limits.audio_codecs).cloned().collect();
    let millis = |millis: u32| Duration::from_millis(millis.into());
    LegOrder {
        is_on: sending.switched_on,
        batch: millis(settings.batch_ms.into()),
        delay: millis(sending.delay_ms),
        start_after: millis(sending.start_after_ms),
        sink: SinkRules {
            audio: audio_choice(settings),
            video_track: settings.video_track,
            adds_silence: limits.missing_sound == MissingSound::Add,
            takes,
        },
        limits,
        held_back: None,
        set_aside: None,
        destination: leg_destination(destination),
    }
}

/// A destination as legs need it.
pub fn leg_destination(destination: Destination) -> LegDestination {
    let Destination { id, name, settings, key, .. } = destination;
    LegDestination {
        id,
        name,
        address: settings.address,
        authority: settings.authority,
        key,
        srt_latency: Duration::from_millis(settings.srt.latency_ms.into()),
        passphrase: settings.srt.passphrase,
    }
}

/// What was written by a version that knew more is as good as not chosen.
fn audio_choice(settings: &DestinationSettings) -> AudioChoice {
    let pick = settings.audio_pick.as_deref().and_then(|pick| pick.parse().ok());
    AudioChoice { pick, otherwise: if settings.or_no_audio { Otherwise::Nothing } else { Otherwise::First } }
}

/// Reads a limits sheet as it is kept; nothing limits nothing.
pub fn read_sheet(kept: Option<&str>) -> SheetForm {
    let Some(kept) = kept else { return SheetForm::default() };
    serde_json::from_str(kept).unwrap_or_else(|error| {
        tracing::error!(%error, "a limits sheet cannot be read and limits nothing");
        SheetForm::default()
    })
}

/// What is kept of a limits sheet; nothing if it limits nothing.
pub(crate) fn kept_sheet(form: &SheetForm) -> Option<String> {
    let is_empty = *form == SheetForm { on_breach: form.on_breach, ..SheetForm::default() };
    (!is_empty).then(|| serde_json::to_string(form).unwrap_or_default())
}

fn sheet_of(form: &SheetForm) -> LimitsSheet {
    LimitsSheet {
        needs_tls: form.needs_tls,
        video_codecs: form.video_codecs.clone(),
        audio_codecs: form.audio_codecs.clone(),
        max_bitrate_bps: form.max_bitrate_bps,
        max_long_side: form.max_long_side,
        max_short_side: form.max_short_side,
        max_frame_rate: form.max_frame_rate,
        max_keyframe_spacing: form.max_keyframe_spacing_ms.map(|spacing| MediaTime::from_millis(spacing.into())),
        max_audio_tracks: form.max_audio_tracks.map(usize::from),
        video_profiles: form.video_profiles.clone(),
        needs_closed_groups: form.needs_closed_groups,
        standard_range_only: form.standard_range_only,
        missing_sound: match form.missing_sound {
            waverant_model::MissingSound::Ignore => MissingSound::Ignore,
            waverant_model::MissingSound::Warn => MissingSound::Warn,
            waverant_model::MissingSound::Add => MissingSound::Add,
        },
        on_breach: match form.on_breach {
            SheetAction::Warn => OnBreach::Warn,
            SheetAction::DoNotSend => OnBreach::DoNotSend,
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_kept_comes_back() {
        let on_breach = SheetAction::DoNotSend;
        let form = SheetForm { max_bitrate_bps: Some(4_500_000), on_breach, ..SheetForm::default() };
        assert_eq!(read_sheet(kept_sheet(&form).as_deref()), form);
        assert_eq!(kept_sheet(&SheetForm::default()), None);
        assert_eq!(read_sheet(Some("not json")), SheetForm::default());
    }
}
