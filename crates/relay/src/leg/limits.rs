use std::time::{Duration, Instant};

use waverant_media::{MediaTime, TrackKind, Tracks};

/// What is measured swings; only what lasts this long counts.
const LASTING: Duration = Duration::from_secs(10);

/// Measured rates may be over their limit by this factor: encoders do not hit a number exactly.
const TOLERANCE: f64 = 1.05;

/// What to do about a stream that a destination does not accept.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum OnBreach {
    /// Send it, and say so.
    #[default]
    Warn,
    /// Do not send it while it is so.
    DoNotSend,
}

/// What a destination accepts, as far as it is known. Empty lists and absent numbers limit nothing.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct LimitsSheet {
    /// Only encrypted connections.
    pub needs_tls: bool,
    /// Names of the video codecs. They are sent even to a platform that does not say so itself.
    pub video_codecs: Vec<String>,
    /// Names of the audio codecs.
    pub audio_codecs: Vec<String>,
    /// Bits per second, all tracks together.
    pub max_bitrate_bps: Option<u64>,
    /// Pixels of the long side.
    pub max_long_side: Option<u32>,
    /// Pixels of the short side.
    pub max_short_side: Option<u32>,
    /// Pictures per second.
    pub max_frame_rate: Option<f64>,
    /// Distance between keyframes.
    pub max_keyframe_spacing: Option<MediaTime>,
    /// Tracks of sound.
    pub max_audio_tracks: Option<usize>,
    /// What to do.
    pub on_breach: OnBreach,
}

/// What is known of a stream on its way to a destination.
#[derive(Clone, Debug, Default)]
pub struct StreamFacts<'a> {
    /// True if the connection is encrypted.
    pub is_secure: bool,
    /// The tracks that are sent; none before the show.
    pub tracks: Option<&'a Tracks>,
    /// Bits per second; 0 if not known.
    pub bitrate_bps: f64,
    /// Pictures per second; 0 if not known.
    pub frame_rate: f64,
    /// The largest of the last distances between keyframes.
    pub keyframe_spacing: Option<MediaTime>,
}

/// Which limit is not kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Limit {
    /// Encryption.
    Tls,
    /// The codec of the pictures.
    VideoCodec,
    /// The codec of the sound.
    AudioCodec,
    /// Bits per second.
    Bitrate,
    /// Width and height.
    Size,
    /// Pictures per second.
    FrameRate,
    /// Distance between keyframes.
    KeyframeSpacing,
    /// Tracks of sound.
    AudioTracks,
}

impl Limit {
    /// True for what swings and has to last before it counts.
    fn is_measured(self) -> bool {
        matches!(self, Self::Bitrate | Self::FrameRate | Self::KeyframeSpacing)
    }
}

/// A limit that is not kept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Breach {
    /// Which one.
    pub limit: Limit,
    /// What was found, what is accepted, and what to change, in words.
    pub text: String,
}

impl LimitsSheet {
    /// Compares a stream with the sheet.
    pub fn check(&self, facts: &StreamFacts<'_>) -> Vec<Breach> {
        let mut breaches = Vec::new();
        let mut found = |limit, text| breaches.push(Breach { limit, text });
        if self.needs_tls && !facts.is_secure {
            found(
                Limit::Tls,
                "it takes encrypted connections only: use its rtmps:// address, or over SRT a passphrase".to_owned(),
            );
        }
        if let Some(tracks) = facts.tracks {
            self.check_tracks(tracks, &mut found);
        }
        if let Some(max) = self.max_bitrate_bps.filter(|max| facts.bitrate_bps > *max as f64 * TOLERANCE) {
            let (have, max) = (megabits(facts.bitrate_bps), megabits(max as f64));
            let text = format!("the bitrate is {have} Mbit/s and it takes {max}: set the encoder to less");
            found(Limit::Bitrate, text);
        }
        if let Some(max) = self.max_frame_rate.filter(|max| facts.frame_rate > max * TOLERANCE) {
            let rate = facts.frame_rate;
            let text =
                format!("there are {rate:.1} pictures a second and it takes {max}: set the encoder's frame rate lower");
            found(Limit::FrameRate, text);
        }
        if let Some((have, max)) = facts.keyframe_spacing.zip(self.max_keyframe_spacing)
            && have.ticks() as f64 > max.ticks() as f64 * TOLERANCE
        {
            let text = format!(
                "keyframes are {:.1} s apart and it takes at most {:.1} s: set the encoder's keyframe interval to {:.0} s",
                seconds(have),
                seconds(max),
                seconds(max).floor().max(1.0)
            );
            found(Limit::KeyframeSpacing, text);
        }
        breaches
    }

    /// True if the sheet names this codec, so that it is sent without the platform saying so.
    pub fn names(&self, codec: &str) -> bool {
        self.video_codecs.iter().chain(&self.audio_codecs).any(|name| name.eq_ignore_ascii_case(codec))
    }

    fn check_tracks(&self, tracks: &Tracks, found: &mut impl FnMut(Limit, String)) {
        for (kind, limit, codecs) in [
            (TrackKind::Video, Limit::VideoCodec, &self.video_codecs),
            (TrackKind::Audio, Limit::AudioCodec, &self.audio_codecs),
        ] {
            if let Some(track) = tracks.first(kind)
                && let name = track.codec.name()
                && !codecs.is_empty()
                && !codecs.iter().any(|codec| codec.eq_ignore_ascii_case(name))
            {
                let what = if kind == TrackKind::Video { "pictures are" } else { "sound is" };
                found(limit, format!("the {what} {name} and it takes {}", codecs.join(" or ")));
            }
        }
        if let Some((width, height)) = tracks.first(TrackKind::Video).and_then(|video| video.codec.picture_size()) {
            let (long, short) = (width.max(height), width.min(height));
            let is_over = |side: u32, max: Option<u32>| max.is_some_and(|max| side > max);
            if is_over(long, self.max_long_side) || is_over(short, self.max_short_side) {
                let side = |max: Option<u32>| max.map_or_else(|| "any".to_owned(), |max| max.to_string());
                let (most_long, most_short) = (side(self.max_long_side), side(self.max_short_side));
                let text =
                    format!("the picture is {width}x{height} and it takes at most {most_long} by {most_short} pixels");
                found(Limit::Size, text);
            }
        }
        let sounds = tracks.iter().filter(|track| track.codec.kind() == TrackKind::Audio).count();
        if let Some(max) = self.max_audio_tracks.filter(|max| sounds > *max) {
            let text = format!("there are {sounds} tracks of sound and it takes {max}: choose one for it");
            found(Limit::AudioTracks, text);
        }
    }
}

/// Keeps track of which limits are not kept for good. What is measured must last to count, and must
/// be kept as long again to be forgiven: a leg that is held back does not flutter.
#[derive(Clone, Debug, Default)]
pub struct LimitsWatch {
    /// Since when a limit is not kept though it does not stand, or kept though it stands.
    changing: Vec<(Limit, Instant)>,
    standing: Vec<Breach>,
}

impl LimitsWatch {
    /// Takes what a check found at `now`; to be called about once a second.
    pub fn update(&mut self, now: Instant, found: Vec<Breach>) {
        let is_in = |list: &[Breach], limit: Limit| list.iter().any(|breach| breach.limit == limit);
        let before = std::mem::take(&mut self.standing);
        let differs = |limit: Limit| is_in(&found, limit) != is_in(&before, limit);
        self.changing.retain(|(limit, _)| differs(*limit));
        for breach in found.iter().chain(&before) {
            if differs(breach.limit) && !self.changing.iter().any(|(limit, _)| *limit == breach.limit) {
                self.changing.push((breach.limit, now));
            }
        }
        let has_lasted = |limit: Limit| {
            let since = self.changing.iter().find(|(changing, _)| *changing == limit).map(|(_, since)| *since);
            !limit.is_measured() || since.is_some_and(|since| now.saturating_duration_since(since) >= LASTING)
        };
        let forgiven = |breach: &Breach| differs(breach.limit) && has_lasted(breach.limit);
        let kept: Vec<Breach> =
            before.iter().filter(|old| !is_in(&found, old.limit) && !forgiven(old)).cloned().collect();
        let stands = |new: &Breach| is_in(&before, new.limit) || has_lasted(new.limit);
        self.standing = found.iter().filter(|new| stands(new)).cloned().chain(kept).collect();
        // What has changed begins its next wait from nothing.
        let (changing, standing) = (&mut self.changing, &self.standing);
        changing.retain(|(limit, _)| is_in(&found, *limit) != is_in(standing, *limit));
    }

    /// The limits that are not kept now.
    pub fn standing(&self) -> &[Breach] {
        &self.standing
    }
}

fn megabits(bits: f64) -> String {
    format!("{:.1}", bits / 1e6)
}

fn seconds(time: MediaTime) -> f64 {
    time.ticks() as f64 / waverant_media::TICKS_PER_SECOND as f64
}

#[cfg(test)]
#[expect(clippy::disallowed_methods, reason = "one start instant is taken, then only added to")]
mod tests {
    use rstest::rstest;
    use waverant_media::TrackId;
    use waverant_media::testing::{aac, h264_and_aac, hevc, tracks};

    use super::*;

    fn sheet() -> LimitsSheet {
        LimitsSheet {
            needs_tls: true,
            video_codecs: vec!["H.264".to_owned()],
            audio_codecs: vec!["AAC".to_owned()],
            max_bitrate_bps: Some(4_500_000),
            max_long_side: Some(1280),
            max_short_side: Some(720),
            max_frame_rate: Some(30.0),
            max_keyframe_spacing: Some(MediaTime::from_millis(4000)),
            max_audio_tracks: Some(1),
            on_breach: OnBreach::Warn,
        }
    }

    fn measured() -> StreamFacts<'static> {
        StreamFacts {
            is_secure: true,
            tracks: None,
            bitrate_bps: 4_600_000.0,
            frame_rate: 30.2,
            keyframe_spacing: Some(MediaTime::from_millis(4000)),
        }
    }

    fn good(tracks: &Tracks) -> StreamFacts<'_> {
        StreamFacts { tracks: Some(tracks), ..measured() }
    }

    #[test]
    fn a_stream_within_its_limits_is_not_mentioned() {
        assert_eq!(sheet().check(&good(&h264_and_aac())), []);
        assert_eq!(LimitsSheet::default().check(&StreamFacts { bitrate_bps: 9e9, ..good(&h264_and_aac()) }), []);
    }

    #[rstest]
    #[case::tls(StreamFacts { is_secure: false, ..measured() }, Limit::Tls, "rtmps://")]
    #[case::bitrate(StreamFacts { bitrate_bps: 6.2e6, ..measured() }, Limit::Bitrate, "6.2 Mbit/s and it takes 4.5")]
    #[case::rate(StreamFacts { frame_rate: 50.0, ..measured() }, Limit::FrameRate, "50.0 pictures")]
    #[case::keyframes(StreamFacts { keyframe_spacing: Some(MediaTime::from_millis(10_000)), ..measured() }, Limit::KeyframeSpacing, "10.0 s apart and it takes at most 4.0 s")]
    fn what_is_over_is_named_with_both_numbers(
        #[case] facts: StreamFacts<'static>,
        #[case] limit: Limit,
        #[case] part: &str,
    ) {
        let tracks = h264_and_aac();
        let breaches = sheet().check(&StreamFacts { tracks: Some(&tracks), ..facts });
        assert_eq!(breaches.iter().map(|breach| breach.limit).collect::<Vec<_>>(), [limit]);
        assert!(breaches[0].text.contains(part), "{}", breaches[0].text);
    }

    #[test]
    fn tracks_are_compared() {
        let many = tracks([(TrackId::VIDEO, hevc()), (TrackId::AUDIO, aac()), (TrackId(3), aac())]);
        let breaches = sheet().check(&good(&many));
        let limits: Vec<Limit> = breaches.iter().map(|breach| breach.limit).collect();
        assert_eq!(limits, [Limit::VideoCodec, Limit::Size, Limit::AudioTracks]);
        assert_eq!(breaches[0].text, "the pictures are HEVC and it takes H.264");
        assert_eq!(breaches[1].text, "the picture is 1920x1080 and it takes at most 1280 by 720 pixels");
        assert!(sheet().names("h.264") && !sheet().names("HEVC"));
    }

    #[test]
    fn what_is_measured_must_last() {
        let breach = |limit| Breach { limit, text: String::new() };
        let (start, mut watch) = (Instant::now(), LimitsWatch::default());
        watch.update(start, vec![breach(Limit::Bitrate), breach(Limit::Tls)]);
        assert_eq!(watch.standing(), [breach(Limit::Tls)]);
        watch.update(start + LASTING / 2, vec![]);
        watch.update(start + LASTING, vec![breach(Limit::Bitrate)]);
        assert_eq!(watch.standing(), [], "it began anew");
        watch.update(start + LASTING * 2, vec![breach(Limit::Bitrate)]);
        assert_eq!(watch.standing(), [breach(Limit::Bitrate)]);
        watch.update(start + LASTING * 2, vec![]);
        watch.update(start + LASTING * 3 - Duration::from_secs(1), vec![]);
        assert_eq!(watch.standing(), [breach(Limit::Bitrate)], "it is forgiven as slowly");
        watch.update(start + LASTING * 3, vec![]);
        assert_eq!(watch.standing(), []);
    }
}
