use std::fmt::Write as _;

use waverant_media::{Track, TrackKind};

use super::quotable;

/// The group that all sounds form.
const SOUND_GROUP: &str = "sound";

/// A track of the stream, with the place of its media playlist.
#[derive(Clone, Debug)]
pub struct Rendition<'a> {
    /// What it carries.
    pub track: &'a Track,
    /// Where its playlist is, relative to the multivariant one.
    pub uri: String,
}

/// What only the stream itself tells.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct VariantFacts {
    /// The largest bitrate of a segment of picture and loudest sound together, in bits per second, with headers.
    pub peak_bps: u64,
    /// The average of the same.
    pub average_bps: u64,
    /// Pictures per second, if known.
    pub frame_rate: Option<f64>,
    /// Width and height, where the codec parameters tell none.
    pub picture_size: Option<(u32, u32)>,
}

/// The playlist that a player is given: one variant, and its sounds to choose from.
///
/// Source: RFC 8216bis, 4.4.6
#[derive(Clone, Debug)]
pub struct MultivariantPlaylist<'a> {
    /// The tracks; of pictures the first is shown.
    pub renditions: &'a [Rendition<'a>],
    /// What the stream tells.
    pub facts: VariantFacts,
}

impl MultivariantPlaylist<'_> {
    /// The playlist as text; empty without tracks.
    pub fn write(&self) -> String {
        let mut out = String::new();
        // Writing into a string cannot fail.
        let _ = self.write_into(&mut out);
        out
    }

    fn write_into(&self, out: &mut String) -> std::fmt::Result {
        let of = |kind: TrackKind| self.renditions.iter().filter(move |rendition| rendition.track.id.kind() == kind);
        let picture = of(TrackKind::Video).next();
        let sounds: Vec<&Rendition<'_>> = of(TrackKind::Audio).collect();
        let Some(shown) = picture.or(sounds.first().copied()) else { return Ok(()) };
        writeln!(out, "#EXTM3U\n#EXT-X-VERSION:6")?;
        // One sound that is all there is need not be chosen.
        let is_group = sounds.len() > usize::from(picture.is_none());
        if is_group {
            write_sounds(out, &sounds)?;
        }
        let facts = &self.facts;
        write!(out, "#EXT-X-STREAM-INF:BANDWIDTH={},AVERAGE-BANDWIDTH={}", facts.peak_bps, facts.average_bps)?;
        let mut codecs: Vec<String> = picture.iter().map(|rendition| rendition.track.codec.codec_string()).collect();
        for sound in &sounds {
            let codec = sound.track.codec.codec_string();
            if !codecs.contains(&codec) {
                codecs.push(codec);
            }
        }
        write!(out, ",CODECS=\"{}\"", codecs.join(","))?;
        if let Some(picture) = picture {
            if let Some((width, height)) = picture.track.codec.picture_size().or(facts.picture_size) {
                write!(out, ",RESOLUTION={width}x{height}")?;
            }
            if let Some(rate) = facts.frame_rate.filter(|rate| rate.is_finite() && *rate > 0.0) {
                write!(out, ",FRAME-RATE={rate:.3}")?;
            }
        }
        if is_group {
            write!(out, ",AUDIO=\"{SOUND_GROUP}\"")?;
        }
        writeln!(out, "\n{}", shown.uri)
    }
}

/// Source: RFC 8216bis, 4.4.6.1
fn write_sounds(out: &mut String, sounds: &[&Rendition<'_>]) -> std::fmt::Result {
    let mut used: Vec<String> = Vec::new();
    for (place, sound) in sounds.iter().enumerate() {
        let name = sound_name(sound.track, place, &used);
        let yes = if place == 0 { "YES" } else { "NO" };
        write!(out, "#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID=\"{SOUND_GROUP}\",NAME=\"{name}\",DEFAULT={yes},AUTOSELECT=YES")?;
        used.push(name);
        if let Some(language) = sound.track.language.as_deref() {
            write!(out, ",LANGUAGE=\"{}\"", quotable(language))?;
        }
        let channels = sound.track.codec.sound().map_or(0, |format| format.channel_count);
        if channels > 0 {
            write!(out, ",CHANNELS=\"{channels}\"")?;
        }
        writeln!(out, ",URI=\"{}\"", sound.uri)?;
    }
    Ok(())
}

/// The name that people choose by: no two are the same.
fn sound_name(track: &Track, place: usize, used: &[String]) -> String {
    let number = place + 1;
    let told = track.name.as_deref().or(track.language.as_deref()).map(quotable).filter(|name| !name.is_empty());
    let name = told.unwrap_or_else(|| format!("Sound {number}"));
    if used.contains(&name) { format!("{name} ({number})") } else { name }
}
