//! The limits sheet of a destination, as options.

use clap::{Args, ValueEnum};
use waverant_model::{MissingSound, SheetAction, SheetForm};

use crate::error::Failure;

/// What a destination accepts. What is left out stays as it is.
#[derive(Args, Debug, Default)]
#[command(next_help_heading = "Limits sheet")]
pub(super) struct Limits {
    /// Only encrypted connections.
    #[arg(long, value_name = "BOOL")]
    needs_tls: Option<bool>,
    /// Video codecs, as in H.264,HEVC. They are sent even if the platform does not say that it takes them.
    #[arg(long, value_delimiter = ',', value_name = "CODECS")]
    video_codecs: Option<Vec<String>>,
    /// Audio codecs, as in AAC,Opus.
    #[arg(long, value_delimiter = ',', value_name = "CODECS")]
    audio_codecs: Option<Vec<String>>,
    /// The highest bitrate, in Mbit/s.
    #[arg(long, value_name = "MBIT")]
    max_bitrate: Option<f64>,
    /// The largest picture, as in 1920x1080; standing pictures may have it the other way round.
    #[arg(long, value_name = "SIZE")]
    max_size: Option<String>,
    /// The highest frame rate.
    #[arg(long, value_name = "FPS")]
    max_frame_rate: Option<f64>,
    /// The longest distance between keyframes, in seconds.
    #[arg(long, value_name = "SECONDS")]
    max_keyframe_spacing: Option<f64>,
    /// How many tracks of sound.
    #[arg(long, value_name = "COUNT")]
    max_audio_tracks: Option<u8>,
    /// Profiles of the pictures, as in Main,High.
    #[arg(long, value_delimiter = ',', value_name = "PROFILES")]
    video_profiles: Option<Vec<String>>,
    /// Only groups of pictures that need nothing of the group before.
    #[arg(long, value_name = "BOOL")]
    needs_closed_groups: Option<bool>,
    /// Only the usual range of light (SDR).
    #[arg(long, value_name = "BOOL")]
    standard_range_only: Option<bool>,
    /// What to do when a show has no sound.
    #[arg(long, value_name = "WHAT")]
    missing_sound: Option<SoundRule>,
    /// What to do about a stream that is not accepted.
    #[arg(long)]
    on_breach: Option<OnBreach>,
    /// Begin with an empty sheet.
    #[arg(long)]
    no_limits: bool,
}

/// What to do about a stream that a destination does not accept.
#[derive(Clone, Copy, Debug, ValueEnum)]
enum OnBreach {
    /// Send it, and say so.
    Warn,
    /// Do not send it while it is so.
    DoNotSend,
}

/// What to do for a destination when a show has no sound.
#[derive(Clone, Copy, Debug, ValueEnum)]
enum SoundRule {
    /// Nothing: it does without.
    Ignore,
    /// Send it as it is, and say so.
    Warn,
    /// Add silence.
    Add,
}

impl SoundRule {
    fn rule(self) -> MissingSound {
        match self {
            Self::Ignore => MissingSound::Ignore,
            Self::Warn => MissingSound::Warn,
            Self::Add => MissingSound::Add,
        }
    }
}

impl Limits {
    /// The sheet with what was given; none if nothing was.
    pub(super) fn applied_to(&self, present: &SheetForm) -> Result<Option<SheetForm>, Failure> {
        let mut sheet = if self.no_limits { SheetForm::default() } else { present.clone() };
        replace(&mut sheet.needs_tls, self.needs_tls);
        replace(&mut sheet.video_codecs, self.video_codecs.clone());
        replace(&mut sheet.audio_codecs, self.audio_codecs.clone());
        replace(&mut sheet.max_bitrate_bps, whole("--max-bitrate", self.max_bitrate, 1e6)?.map(Some));
        if let Some(size) = &self.max_size {
            let (long, short) = sides(size)?;
            (sheet.max_long_side, sheet.max_short_side) = (Some(long), Some(short));
        }
        replace(&mut sheet.max_frame_rate, self.max_frame_rate.map(Some));
        let spacing = whole("--max-keyframe-spacing", self.max_keyframe_spacing, 1e3)?;
        replace(
            &mut sheet.max_keyframe_spacing_ms,
            spacing.map(|spacing| Some(spacing.try_into().unwrap_or(u32::MAX))),
        );
        replace(&mut sheet.max_audio_tracks, self.max_audio_tracks.map(Some));
        replace(&mut sheet.video_profiles, self.video_profiles.clone());
        replace(&mut sheet.needs_closed_groups, self.needs_closed_groups);
        replace(&mut sheet.standard_range_only, self.standard_range_only);
        replace(&mut sheet.missing_sound, self.missing_sound.map(SoundRule::rule));
        replace(&mut sheet.on_breach, self.on_breach.map(OnBreach::action));
        Ok((self.no_limits || sheet != *present).then_some(sheet))
    }
}

impl OnBreach {
    fn action(self) -> SheetAction {
        match self {
            Self::Warn => SheetAction::Warn,
            Self::DoNotSend => SheetAction::DoNotSend,
        }
    }
}

fn replace<T>(field: &mut T, given: Option<T>) {
    if let Some(given) = given {
        *field = given;
    }
}

/// `value` in units of `scale`, as a whole number.
fn whole(option: &str, value: Option<f64>, scale: f64) -> Result<Option<u64>, Failure> {
    let Some(value) = value else { return Ok(None) };
    let scaled = (value * scale).round();
    if !(1.0..=1e12).contains(&scaled) {
        return Err(Failure::Usage(format!("{option}: {value} is not above 0")));
    }
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "bounded above")]
    Ok(Some(scaled as u64))
}

/// The long and the short side.
fn sides(size: &str) -> Result<(u32, u32), Failure> {
    let sides = size.split_once('x').and_then(|(width, height)| Some((width.parse().ok()?, height.parse().ok()?)));
    match sides {
        Some((width, height)) if width > 0 && height > 0 => Ok((u32::max(width, height), u32::min(width, height))),
        _ => Err(Failure::Usage(format!("--max-size: `{size}` is no size; 1920x1080 was expected"))),
    }
}

/// The sheet in few words.
pub(super) fn told(sheet: &SheetForm) -> String {
    let list = |names: &[String]| (!names.is_empty()).then(|| names.join("/"));
    let size = sheet.max_long_side.map(|long| match sheet.max_short_side {
        Some(short) => format!("{long}x{short}"),
        None => format!("{long} pixels"),
    });
    let parts = [
        sheet.needs_tls.then(|| "TLS".to_owned()),
        list(&sheet.video_codecs),
        list(&sheet.audio_codecs),
        sheet.max_bitrate_bps.map(|rate| format!("{} Mbit/s", rate as f64 / 1e6)),
        size,
        sheet.max_frame_rate.map(|rate| format!("{rate} fps")),
        sheet.max_keyframe_spacing_ms.map(|spacing| format!("keyframes {} s", f64::from(spacing) / 1e3)),
        sheet.max_audio_tracks.map(|tracks| format!("{tracks} audio")),
        list(&sheet.video_profiles),
        sheet.needs_closed_groups.then(|| "closed groups".to_owned()),
        sheet.standard_range_only.then(|| "SDR".to_owned()),
        match sheet.missing_sound {
            MissingSound::Ignore => None,
            MissingSound::Warn => Some("sound".to_owned()),
            MissingSound::Add => Some("sound, else silence".to_owned()),
        },
    ];
    let told: Vec<String> = parts.into_iter().flatten().collect();
    match (told.is_empty(), sheet.on_breach) {
        (true, _) => "-".to_owned(),
        (false, SheetAction::DoNotSend) => format!("{}, else not sent", told.join(", ")),
        (false, SheetAction::Warn) => told.join(", "),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_given_is_added_to_the_sheet() {
        let limits = Limits { max_bitrate: Some(4.5), max_size: Some("720x1280".into()), ..Limits::default() };
        let present = SheetForm { needs_tls: true, ..SheetForm::default() };
        let sheet = limits.applied_to(&present).unwrap().unwrap();
        let expected = SheetForm {
            max_bitrate_bps: Some(4_500_000),
            max_long_side: Some(1280),
            max_short_side: Some(720),
            ..present
        };
        assert_eq!(sheet, expected);
        assert_eq!(told(&sheet), "TLS, 4.5 Mbit/s, 1280x720");
        assert_eq!(Limits::default().applied_to(&sheet).unwrap(), None);
        let empty = Limits { no_limits: true, ..Limits::default() };
        assert_eq!(empty.applied_to(&sheet).unwrap(), Some(SheetForm::default()));
        assert!(Limits { max_size: Some("big".into()), ..Limits::default() }.applied_to(&sheet).is_err());
        assert!(Limits { max_bitrate: Some(-1.0), ..Limits::default() }.applied_to(&sheet).is_err());
    }
}
