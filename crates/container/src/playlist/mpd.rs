use std::fmt::Write as _;

use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;
use waverant_media::{Track, TrackKind};

/// A segment in a manifest.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ManifestSegment {
    /// When its first sample is decoded, in ticks of the track's clock.
    pub start: u64,
    /// How long it is, in ticks.
    pub duration: u64,
}

/// A track in a period.
#[derive(Clone, Debug)]
pub struct ManifestTrack<'a> {
    /// What it carries.
    pub track: &'a Track,
    /// Where its pieces are, relative to the manifest, with the slash at the end.
    pub folder: String,
    /// The number of its header.
    pub header: u64,
    /// Ticks per second.
    pub timescale: u32,
    /// Largest bitrate of a segment, in bits per second.
    pub peak_bps: u64,
    /// Width and height, where the codec parameters tell none.
    pub picture_size: Option<(u32, u32)>,
    /// Whether each of the segments can be begun with.
    pub starts_clean: bool,
    /// The number of its first segment here.
    pub first_segment: u64,
    /// Its segments, whole ones alone.
    pub segments: Vec<ManifestSegment>,
}

/// A stretch of unchanged parameters.
#[derive(Clone, Debug)]
pub struct ManifestPeriod<'a> {
    /// Its number.
    pub number: u64,
    /// When it begins on the stream's clock, in milliseconds.
    pub start_ms: u64,
    /// Its tracks.
    pub tracks: Vec<ManifestTrack<'a>>,
}

/// A manifest of the live profile of DASH.
///
/// Source: ISO/IEC 23009-1, 5.3 and 8.4
#[derive(Clone, Debug)]
pub struct Manifest<'a> {
    /// When the stream's clock was zero.
    pub clock_zero: OffsetDateTime,
    /// Now, by which players set their clocks.
    pub now: OffsetDateTime,
    /// The longest segment, in seconds.
    pub target_duration: u32,
    /// How far back one can go, in seconds.
    pub window: u32,
    /// The periods by time.
    pub periods: Vec<ManifestPeriod<'a>>,
    /// Whether nothing follows, and then where the stream's clock ended, in milliseconds.
    pub ended_at_ms: Option<u64>,
}

impl Manifest<'_> {
    /// The manifest as text.
    pub fn write(&self) -> String {
        let mut out = String::with_capacity(2048);
        // Writing into a string cannot fail.
        let _ = self.write_into(&mut out);
        out
    }

    fn write_into(&self, out: &mut String) -> std::fmt::Result {
        let date = |date: OffsetDateTime| date.format(&Rfc3339).unwrap_or_default();
        let target = self.target_duration;
        write!(out, "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<MPD xmlns=\"urn:mpeg:dash:schema:mpd:2011\"")?;
        write!(out, " profiles=\"urn:mpeg:dash:profile:isoff-live:2011\"")?;
        match self.ended_at_ms {
            Some(end) => write!(out, " type=\"static\" mediaPresentationDuration=\"{}\"", Lasting(end))?,
            None => write!(
                out,
                " type=\"dynamic\" availabilityStartTime=\"{}\" publishTime=\"{}\" minimumUpdatePeriod=\"PT{target}S\" \
                 timeShiftBufferDepth=\"PT{}S\" suggestedPresentationDelay=\"PT{}S\"",
                date(self.clock_zero),
                date(self.now),
                self.window,
                target * 3,
            )?,
        }
        writeln!(out, " minBufferTime=\"PT{target}S\" maxSegmentDuration=\"PT{target}S\">")?;
        for period in &self.periods {
            write_period(out, period)?;
        }
        if self.ended_at_ms.is_none() {
            let now = date(self.now);
            writeln!(out, "  <UTCTiming schemeIdUri=\"urn:mpeg:dash:utc:direct:2014\" value=\"{now}\"/>")?;
        }
        writeln!(out, "</MPD>")
    }
}

fn write_period(out: &mut String, period: &ManifestPeriod<'_>) -> std::fmt::Result {
    writeln!(out, "  <Period id=\"{}\" start=\"{}\">", period.number, Lasting(period.start_ms))?;
    for track in period.tracks.iter().filter(|track| !track.segments.is_empty()) {
        write_adaptation_set(out, period, track)?;
    }
    writeln!(out, "  </Period>")
}

fn write_adaptation_set(out: &mut String, period: &ManifestPeriod<'_>, track: &ManifestTrack<'_>) -> std::fmt::Result {
    let is_video = track.track.id.kind() == TrackKind::Video;
    let (kind, number) = (if is_video { "video" } else { "audio" }, track.track.id.0);
    write!(out, "    <AdaptationSet id=\"{number}\" contentType=\"{kind}\" mimeType=\"{kind}/mp4\"")?;
    if let Some(language) = track.track.language.as_deref() {
        write!(out, " lang=\"{}\"", escaped(language))?;
    }
    writeln!(out, "{}>", if track.starts_clean { " startWithSAP=\"1\"" } else { "" })?;
    if let Some(name) = track.track.name.as_deref() {
        writeln!(out, "      <Label>{}</Label>", escaped(name))?;
    }
    write_template(out, period, track)?;
    let codec = &track.track.codec;
    write!(
        out,
        "      <Representation id=\"{number}\" bandwidth=\"{}\" codecs=\"{}\"",
        track.peak_bps,
        codec.codec_string(),
    )?;
    if let Some((width, height)) = codec.picture_size().or(track.picture_size).filter(|_| is_video) {
        write!(out, " width=\"{width}\" height=\"{height}\"")?;
    }
    match codec.sound() {
        Some(sound) => {
            writeln!(out, " audioSamplingRate=\"{}\">", sound.sample_rate)?;
            let channels = sound.channel_count.max(1);
            let scheme = "urn:mpeg:dash:23003:3:audio_channel_configuration:2011";
            writeln!(out, "        <AudioChannelConfiguration schemeIdUri=\"{scheme}\" value=\"{channels}\"/>")?;
            writeln!(out, "      </Representation>")?;
        }
        None => writeln!(out, "/>")?,
    }
    writeln!(out, "    </AdaptationSet>")
}

/// Source: ISO/IEC 23009-1, 5.3.9.6
fn write_template(out: &mut String, period: &ManifestPeriod<'_>, track: &ManifestTrack<'_>) -> std::fmt::Result {
    let timescale = u128::from(track.timescale);
    let zero = u128::from(period.start_ms) * timescale / 1000;
    let folder = escaped(&track.folder);
    writeln!(
        out,
        "      <SegmentTemplate timescale=\"{timescale}\" presentationTimeOffset=\"{zero}\" startNumber=\"{}\" \
         initialization=\"{folder}head-{}.mp4\" media=\"{folder}$Number$.m4s\">\n        <SegmentTimeline>",
        track.first_segment, track.header,
    )?;
    for segment in &track.segments {
        writeln!(out, "          <S t=\"{}\" d=\"{}\"/>", segment.start, segment.duration)?;
    }
    writeln!(out, "        </SegmentTimeline>\n      </SegmentTemplate>")
}

/// A length of time as XML schema writes it.
struct Lasting(u64);

impl std::fmt::Display for Lasting {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(out, "PT{}.{:03}S", self.0 / 1000, self.0 % 1000)
    }
}

fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            c if c.is_control() => out.push(' '),
            c => out.push(c),
        }
    }
    out
}
