//! A reader of media playlists that believes nothing: it is given each version of a playlist, and says which rule of
//! RFC 8216bis one of them breaks. For tests alone.

use std::collections::BTreeMap;

use thiserror::Error;

/// What is wrong with a playlist.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{0}")]
pub struct PlaylistFault(pub String);

/// What was told of a segment; it may never be told otherwise.
#[derive(Clone, Debug, PartialEq)]
struct Told {
    uri: String,
    seconds: f64,
    discontinuity: u64,
    header: String,
    date_ms: Option<i128>,
}

/// What was told of a part.
#[derive(Clone, Debug, PartialEq)]
struct ToldPart {
    uri: String,
    seconds: f64,
}

/// One version of a playlist, read.
#[derive(Debug, Default)]
struct Version {
    version: u64,
    target: u64,
    part_target: Option<f64>,
    control: BTreeMap<String, String>,
    media_sequence: u64,
    discontinuity_sequence: u64,
    skipped: u64,
    segments: Vec<(u64, Told)>,
    parts: Vec<(u64, u64, ToldPart)>,
    hint: Option<String>,
    is_ended: bool,
}

/// Follows one media playlist from version to version.
#[derive(Debug, Default)]
pub struct PlaylistCheck {
    told: BTreeMap<u64, Told>,
    parts: BTreeMap<(u64, u64), ToldPart>,
    target: Option<u64>,
    part_target: Option<f64>,
    media_sequence: u64,
    hint: Option<String>,
    is_ended: bool,
    was_long: bool,
}

/// Fails with a text unless the condition holds.
macro_rules! rule {
    ($holds:expr, $($text:tt)*) => {
        let holds: bool = $holds;
        if !holds {
            return Err(PlaylistFault(format!($($text)*)));
        }
    };
}

impl PlaylistCheck {
    /// Reads the next version of the playlist, whole or a delta update of what was read before.
    ///
    /// # Errors
    /// [`PlaylistFault`] names the rule that it breaks.
    pub fn read(&mut self, text: &str) -> Result<(), PlaylistFault> {
        let version = parse(text, &self.told)?;
        self.check_head(&version)?;
        self.check_segments(&version)?;
        self.check_parts(&version)?;
        self.check_end(&version)?;
        // Parts that are not told any more are not looked at any more.
        self.parts = self.parts.split_off(&(version.media_sequence, 0));
        (self.media_sequence, self.is_ended) = (version.media_sequence, version.is_ended);
        (self.target, self.part_target) = (Some(version.target), version.part_target);
        self.hint = version.hint;
        Ok(())
    }

    /// How many segments were told so far.
    pub fn segment_count(&self) -> usize {
        self.told.len()
    }

    /// The length of all segments told so far, in seconds.
    pub fn told_seconds(&self) -> f64 {
        self.told.values().map(|told| told.seconds).sum()
    }

    /// The segments told so far: numbers, with the length in seconds and the count of discontinuities before each.
    pub fn segments(&self) -> impl Iterator<Item = (u64, f64, u64)> {
        self.told.iter().map(|(number, told)| (*number, told.seconds, told.discontinuity))
    }

    /// 4.4.3
    fn check_head(&self, version: &Version) -> Result<(), PlaylistFault> {
        rule!(!self.is_ended || version.is_ended, "the playlist goes on behind EXT-X-ENDLIST");
        rule!(self.target.is_none_or(|target| target == version.target), "the target duration changed");
        rule!(self.target.is_none() || self.part_target == version.part_target, "the part target changed");
        rule!(version.media_sequence >= self.media_sequence, "the media sequence went back");
        let number = |name: &str| version.control.get(name).and_then(|value| value.parse::<f64>().ok());
        let target = seconds_of(version.target);
        rule!(number("HOLD-BACK").is_none_or(|back| back >= 3.0 * target), "HOLD-BACK is less than three targets");
        rule!(
            number("CAN-SKIP-UNTIL").is_none_or(|until| until >= 6.0 * target),
            "CAN-SKIP-UNTIL is less than six targets"
        );
        if let Some(part_target) = version.part_target {
            let back = number("PART-HOLD-BACK").unwrap_or(0.0);
            rule!(back >= 2.0 * part_target, "PART-HOLD-BACK {back} is less than two part targets of {part_target}");
            rule!(version.version >= 6, "parts need version 6");
        }
        rule!(version.skipped == 0 || version.version >= 9, "EXT-X-SKIP needs version 9");
        rule!(version.skipped == 0 || number("CAN-SKIP-UNTIL").is_some(), "EXT-X-SKIP was not offered");
        Ok(())
    }

    /// 4.4.4, 6.2.1 and 6.2.2
    fn check_segments(&mut self, version: &Version) -> Result<(), PlaylistFault> {
        let first = version.media_sequence;
        for number in first..first + version.skipped {
            rule!(self.told.contains_key(&number), "segment {number} is skipped and was never told");
        }
        if let Some((last, _)) = self.told.last_key_value() {
            rule!(first <= last + 1, "segments between {last} and {first} were never told");
        }
        for (number, told) in &version.segments {
            let longest = seconds_of(version.target) + 0.5;
            rule!(told.seconds < longest, "segment {number} of {} s is longer than the target", told.seconds);
            rule!(!told.header.is_empty(), "segment {number} has no EXT-X-MAP");
            if let Some(before) = self.told.get(number) {
                rule!(before == told, "segment {number} was told as {before:?} and now as {told:?}");
                continue;
            }
            rule!(!self.is_ended, "segment {number} comes behind the end");
            if let Some((last, before)) = self.told.last_key_value() {
                rule!(*number == last + 1, "segment {number} follows {last}");
                self.check_date(*number, before, told)?;
            }
            self.told.insert(*number, told.clone());
        }
        let length = |from: u64| self.told.range(from..).map(|(_, told)| told.seconds).sum::<f64>();
        let is_long = length(first) >= 3.0 * seconds_of(version.target);
        rule!(is_long || !self.was_long || version.is_ended, "the playlist became shorter than three targets");
        self.was_long |= is_long;
        Ok(())
    }

    /// Where the timeline goes on, the date does as well; 4.4.4.6
    fn check_date(&self, number: u64, before: &Told, told: &Told) -> Result<(), PlaylistFault> {
        let (Some(last), Some(now)) = (before.date_ms, told.date_ms) else { return Ok(()) };
        rule!(now >= last, "the date of segment {number} is before the one of its predecessor");
        if told.discontinuity == before.discontinuity {
            #[expect(clippy::cast_precision_loss)]
            let passed = (now - last) as f64 / 1e3;
            // Small holes have no discontinuity.
            rule!(
                (passed - before.seconds) > -0.01 && (passed - before.seconds) < 1.1,
                "segment {number} is dated {passed} s behind one of {} s",
                before.seconds
            );
        }
        Ok(())
    }

    /// 4.4.4.9
    fn check_parts(&mut self, version: &Version) -> Result<(), PlaylistFault> {
        let Some(target) = version.part_target else {
            rule!(version.parts.is_empty() && version.hint.is_none(), "parts without EXT-X-PART-INF");
            return Ok(());
        };
        for (place, (number, index, part)) in version.parts.iter().enumerate() {
            rule!(part.seconds <= target + 1e-5, "part {number}-{index} of {} s is longer than {target}", part.seconds);
            let next = version.parts.get(place + 1);
            let is_last = next.is_none_or(|(following, ..)| following != number);
            rule!(
                is_last || part.seconds >= 0.85 * target - 1e-5,
                "part {number}-{index} of {} s is shorter than 85 % of {target}",
                part.seconds
            );
            let is_new = self.parts.get(&(*number, *index)).is_none_or(|before| before == part);
            rule!(is_new, "part {number}-{index} was told otherwise");
            self.parts.insert((*number, *index), part.clone());
        }
        for (number, told) in &version.segments {
            let parts: Vec<f64> =
                self.parts.range((*number, 0)..(number + 1, 0)).map(|(_, part)| part.seconds).collect();
            let sum: f64 = parts.iter().sum();
            let rounding = 2e-5 * seconds_of(parts.len() as u64 + 1);
            rule!(
                parts.is_empty() || (sum - told.seconds).abs() <= rounding,
                "the parts of segment {number} are {sum} s, and it is {} s",
                told.seconds
            );
        }
        Ok(())
    }

    /// 4.4.5
    fn check_end(&self, version: &Version) -> Result<(), PlaylistFault> {
        rule!(!version.is_ended || version.hint.is_none(), "a hint behind the end");
        if let Some(hint) = &version.hint {
            let is_told = self.parts.values().any(|part| &part.uri == hint);
            rule!(!is_told, "the hint {hint} is for a part that is there");
        }
        Ok(())
    }
}

fn seconds_of(whole: u64) -> f64 {
    f64::from(u32::try_from(whole).unwrap_or(u32::MAX))
}

fn parse(text: &str, known: &BTreeMap<u64, Told>) -> Result<Version, PlaylistFault> {
    let mut version = Version::default();
    let mut lines = text.lines();
    rule!(lines.next() == Some("#EXTM3U"), "the first line is not #EXTM3U");
    let mut reading = Reading::default();
    for line in lines.filter(|line| !line.is_empty()) {
        if let Some(tag) = line.strip_prefix("#EXT") {
            let (name, value) = tag.split_once(':').unwrap_or((tag, ""));
            read_tag(&mut version, &mut reading, (name, value))?;
            if name == "-X-SKIP" {
                // What is skipped holds for what follows.
                let last = known.get(&(version.media_sequence + version.skipped).saturating_sub(1));
                reading.header = last.map(|told| told.header.clone()).unwrap_or_default();
                reading.discontinuity = last.map_or(reading.discontinuity, |told| told.discontinuity);
            }
        } else if !line.starts_with('#') {
            let Some(seconds) = reading.seconds.take() else {
                return Err(PlaylistFault(format!("{line} has no EXTINF")));
            };
            let number = version.media_sequence + version.skipped + version.segments.len() as u64;
            let (header, date_ms) = (reading.header.clone(), reading.date_ms.take());
            let told = Told { uri: line.to_owned(), seconds, discontinuity: reading.discontinuity, header, date_ms };
            version.segments.push((number, told));
            reading.part = 0;
        }
    }
    rule!(version.target > 0, "no EXT-X-TARGETDURATION");
    Ok(version)
}

/// Tags that count for what comes behind them.
#[derive(Debug, Default)]
struct Reading {
    seconds: Option<f64>,
    discontinuity: u64,
    header: String,
    date_ms: Option<i128>,
    part: u64,
}

fn read_tag(version: &mut Version, reading: &mut Reading, (name, value): (&str, &str)) -> Result<(), PlaylistFault> {
    let number = |value: &str| value.parse::<u64>().map_err(|_| PlaylistFault(format!("{name}: {value}")));
    let attributes = || attributes(value);
    match name {
        "-X-VERSION" => version.version = number(value)?,
        "-X-TARGETDURATION" => version.target = number(value)?,
        "-X-MEDIA-SEQUENCE" => version.media_sequence = number(value)?,
        "-X-DISCONTINUITY-SEQUENCE" => {
            rule!(version.segments.is_empty(), "EXT-X-DISCONTINUITY-SEQUENCE behind a segment");
            version.discontinuity_sequence = number(value)?;
            reading.discontinuity = version.discontinuity_sequence;
        }
        "-X-SERVER-CONTROL" => version.control = attributes(),
        "-X-PART-INF" => version.part_target = attributes().get("PART-TARGET").and_then(|target| target.parse().ok()),
        "-X-SKIP" => {
            version.skipped = number(attributes().get("SKIPPED-SEGMENTS").map_or("", String::as_str))?;
        }
        "-X-DISCONTINUITY" => reading.discontinuity += 1,
        "-X-MAP" => reading.header = attributes().remove("URI").unwrap_or_default(),
        "-X-PROGRAM-DATE-TIME" => {
            let format = &time::format_description::well_known::Iso8601::PARSING;
            let date =
                time::OffsetDateTime::parse(value, format).map_err(|_| PlaylistFault(format!("date {value}")))?;
            reading.date_ms = Some(date.unix_timestamp_nanos() / 1_000_000);
        }
        "INF" => reading.seconds = value.split(',').next().and_then(|seconds| seconds.parse().ok()),
        "-X-PART" => {
            let attributes = attributes();
            let seconds = attributes.get("DURATION").and_then(|seconds| seconds.parse().ok());
            let (Some(seconds), Some(uri)) = (seconds, attributes.get("URI")) else {
                return Err(PlaylistFault(format!("part without DURATION or URI: {value}")));
            };
            let number = version.media_sequence + version.skipped + version.segments.len() as u64;
            version.parts.push((number, reading.part, ToldPart { uri: uri.clone(), seconds }));
            reading.part += 1;
        }
        "-X-PRELOAD-HINT" => version.hint = attributes().remove("URI"),
        "-X-RENDITION-REPORT" => {
            let attributes = attributes();
            rule!(attributes.contains_key("URI") && attributes.contains_key("LAST-MSN"), "report {value}");
        }
        "-X-ENDLIST" => version.is_ended = true,
        _ => return Err(PlaylistFault(format!("unknown tag #EXT{name}"))),
    }
    Ok(())
}

/// Attributes of a tag, without quotes. Values that hold commas are quoted.
fn attributes(value: &str) -> BTreeMap<String, String> {
    let (mut found, mut rest) = (BTreeMap::new(), value);
    while let Some((name, after)) = rest.split_once('=') {
        let (value, next) = match after.strip_prefix('"').and_then(|quoted| quoted.split_once('"')) {
            Some((quoted, next)) => (quoted, next.strip_prefix(',').unwrap_or(next)),
            None => after.split_once(',').unwrap_or((after, "")),
        };
        found.insert(name.to_owned(), value.to_owned());
        rest = next;
    }
    found
}
