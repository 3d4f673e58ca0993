use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use waverant_media::MediaTime;
use waverant_relay::{LimitsSheet, OnBreach};

/// What to do about a stream that a destination does not accept.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(crate) enum SheetAction {
    /// Send it, and say so.
    #[default]
    Warn,
    /// Do not send it while it is so.
    DoNotSend,
}

/// What a destination accepts. What is left out limits nothing.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub(crate) struct SheetForm {
    /// Only encrypted connections.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub(crate) needs_tls: bool,
    /// Video codecs, such as `H.264`. They are sent even if the platform does not say that it takes
    /// them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(crate) video_codecs: Vec<String>,
    /// Audio codecs, such as `AAC`.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(crate) audio_codecs: Vec<String>,
    /// Bits per second, all tracks together.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) max_bitrate_bps: Option<u64>,
    /// Pixels of the long side of the picture.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) max_long_side: Option<u32>,
    /// Pixels of the short side.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) max_short_side: Option<u32>,
    /// Pictures per second.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) max_frame_rate: Option<f64>,
    /// Distance between keyframes, in milliseconds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) max_keyframe_spacing_ms: Option<u32>,
    /// Tracks of sound.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) max_audio_tracks: Option<u8>,
    /// What to do about a stream that is not accepted. Default `warn`.
    pub(crate) on_breach: SheetAction,
}

/// Codecs that a sheet can name.
const CODECS: [&str; 10] = ["H.264", "HEVC", "AV1", "VP9", "AAC", "Opus", "FLAC", "AC-3", "E-AC-3", "MP3"];

impl SheetForm {
    /// Reads what is kept; nothing limits nothing.
    pub(crate) fn read(kept: Option<&str>) -> Self {
        let Some(kept) = kept else { return Self::default() };
        serde_json::from_str(kept).unwrap_or_else(|error| {
            tracing::error!(%error, "a limits sheet cannot be read and limits nothing");
            Self::default()
        })
    }

    /// What is kept; nothing if it limits nothing.
    pub(crate) fn kept(&self) -> Option<String> {
        let is_empty = *self == Self { on_breach: self.on_breach, ..Self::default() };
        (!is_empty).then(|| serde_json::to_string(self).unwrap_or_default())
    }

    /// What is wrong with it, in words.
    pub(crate) fn fault(&self) -> Option<String> {
        let known = |name: &&String| !CODECS.iter().any(|codec| codec.eq_ignore_ascii_case(name));
        if let Some(name) = self.video_codecs.iter().chain(&self.audio_codecs).find(known) {
            let name: String = name.chars().take(24).collect();
            return Some(format!("`{name}` is no codec that is carried; {} were expected", CODECS.join(", ")));
        }
        let numbers = [
            ("max_bitrate_bps", self.max_bitrate_bps),
            ("max_long_side", self.max_long_side.map(u64::from)),
            ("max_short_side", self.max_short_side.map(u64::from)),
            ("max_keyframe_spacing_ms", self.max_keyframe_spacing_ms.map(u64::from)),
        ];
        if let Some((name, _)) = numbers.iter().find(|(_, number)| *number == Some(0)) {
            return Some(format!("{name} is 0; leave it out if there is no such limit"));
        }
        let is_bad = |rate: f64| !(rate.is_finite() && rate > 0.0);
        self.max_frame_rate.is_some_and(is_bad).then(|| "max_frame_rate has to be above 0".to_owned())
    }

    pub(crate) fn to_sheet(&self) -> LimitsSheet {
        LimitsSheet {
            needs_tls: self.needs_tls,
            video_codecs: self.video_codecs.clone(),
            audio_codecs: self.audio_codecs.clone(),
            max_bitrate_bps: self.max_bitrate_bps,
            max_long_side: self.max_long_side,
            max_short_side: self.max_short_side,
            max_frame_rate: self.max_frame_rate,
            max_keyframe_spacing: self.max_keyframe_spacing_ms.map(|spacing| MediaTime::from_millis(spacing.into())),
            max_audio_tracks: self.max_audio_tracks.map(usize::from),
            on_breach: match self.on_breach {
                SheetAction::Warn => OnBreach::Warn,
                SheetAction::DoNotSend => OnBreach::DoNotSend,
            },
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_kept_comes_back() {
        let form =
            SheetForm { max_bitrate_bps: Some(4_500_000), on_breach: SheetAction::DoNotSend, ..SheetForm::default() };
        assert_eq!(SheetForm::read(form.kept().as_deref()), form);
        assert_eq!(SheetForm::default().kept(), None);
        assert_eq!(SheetForm::read(Some("not json")), SheetForm::default());
    }

    #[test]
    fn faults_are_named() {
        let fault = |form: SheetForm| form.fault().unwrap_or_default();
        assert!(fault(SheetForm { video_codecs: vec!["H.999".into()], ..SheetForm::default() }).contains("`H.999`"));
        assert!(fault(SheetForm { max_bitrate_bps: Some(0), ..SheetForm::default() }).starts_with("max_bitrate_bps"));
        assert!(fault(SheetForm { max_frame_rate: Some(f64::NAN), ..SheetForm::default() }).contains("above 0"));
        assert_eq!(SheetForm { video_codecs: vec!["h.264".into()], ..SheetForm::default() }.fault(), None);
    }
}
