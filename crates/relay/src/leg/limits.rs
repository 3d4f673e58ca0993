use waverant_media::{MediaTime, TrackKind, Tracks};

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

/// What to do for a destination that demands sound when a show has none.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum MissingSound {
    /// Nothing: it does without.
    #[default]
    Ignore,
    /// Send it as it is, and say so.
    Warn,
    /// Add silence.
    Add,
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
    /// Names of profiles of the pictures.
    pub video_profiles: Vec<String>,
    /// Only groups of pictures that need nothing of the group before.
    pub needs_closed_groups: bool,
    /// Only the usual range of light.
    pub standard_range_only: bool,
    /// What to do when there is no sound.
    pub missing_sound: MissingSound,
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
    /// True if groups of pictures need the one before.
    pub has_open_groups: bool,
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
    /// The profile of the pictures.
    Profile,
    /// Groups that need nothing of the group before.
    ClosedGroups,
    /// The usual range of light.
    DynamicRange,
    /// Any sound.
    Sound,
}

/// A limit that is not kept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Breach {
    /// Which one.
    pub limit: Limit,
    /// What was found; empty where that needs no words.
    pub found: String,
    /// What the destination takes, without its name.
    pub takes: String,
    /// What to change.
    pub advice: String,
}

impl Breach {
    /// What was found, and what `destination` takes.
    pub fn cause(&self, destination: &str) -> String {
        match self.found.as_str() {
            "" => format!("{destination} {}", self.takes),
            found => format!("{found} and {destination} {}", self.takes),
        }
    }

    /// All of it in one line, of a destination that is known.
    pub fn text(&self) -> String {
        format!("{}: {}", self.cause("it"), self.advice)
    }
}

impl LimitsSheet {
    /// Compares a stream with the sheet.
    pub fn check(&self, facts: &StreamFacts<'_>) -> Vec<Breach> {
        let mut breaches = Vec::new();
        let mut found = |limit, found: String, takes: String, advice: String| {
            breaches.push(Breach { limit, found, takes, advice });
        };
        if self.needs_tls && !facts.is_secure {
            let advice = "use its rtmps:// address, or over SRT a passphrase".to_owned();
            found(Limit::Tls, String::new(), "takes encrypted connections only".to_owned(), advice);
        }
        if let Some(tracks) = facts.tracks {
            self.check_tracks(tracks, &mut found);
        }
        if let Some(max) = self.max_bitrate_bps.filter(|max| facts.bitrate_bps > *max as f64 * TOLERANCE) {
            let (have, max) = (megabits(facts.bitrate_bps), megabits(max as f64));
            let have = format!("the bitrate is {have} Mbit/s");
            found(Limit::Bitrate, have, format!("takes {max}"), "set the encoder to less".to_owned());
        }
        if let Some(max) = self.max_frame_rate.filter(|max| facts.frame_rate > max * TOLERANCE) {
            let have = format!("there are {:.1} pictures a second", facts.frame_rate);
            found(Limit::FrameRate, have, format!("takes {max}"), "set the encoder's frame rate lower".to_owned());
        }
        if let Some((have, max)) = facts.keyframe_spacing.zip(self.max_keyframe_spacing)
            && have.ticks() as f64 > max.ticks() as f64 * TOLERANCE
        {
            let (have, max) = (seconds(have), seconds(max));
            let (have, takes) = (format!("keyframes are {have:.1} s apart"), format!("takes at most {max:.1} s"));
            let advice = format!("set the encoder's keyframe interval to {:.0} s", max.floor().max(1.0));
            found(Limit::KeyframeSpacing, have, takes, advice);
        }
        if self.needs_closed_groups && facts.has_open_groups {
            let have = "groups of pictures need the group before (open groups)".to_owned();
            let advice = "set the encoder to closed groups of pictures (closed GOP)".to_owned();
            found(Limit::ClosedGroups, have, "wants closed ones".to_owned(), advice);
        }
        breaches
    }

    /// True if the sheet names this codec, so that it is sent without the platform saying so.
    pub fn names(&self, codec: &str) -> bool {
        self.video_codecs.iter().chain(&self.audio_codecs).any(|name| name.eq_ignore_ascii_case(codec))
    }

    fn check_tracks(&self, tracks: &Tracks, found: &mut impl FnMut(Limit, String, String, String)) {
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
                let codecs = codecs.join(" or ");
                found(
                    limit,
                    format!("the {what} {name}"),
                    format!("takes {codecs}"),
                    format!("set the encoder to {codecs}"),
                );
            }
        }
        self.check_pictures(tracks, found);
        if self.missing_sound == MissingSound::Warn && tracks.has(TrackKind::Video) && !tracks.has(TrackKind::Audio) {
            let advice = "add a source of sound in the encoder, or have silence added for it".to_owned();
            found(Limit::Sound, "the stream has no sound".to_owned(), "demands some".to_owned(), advice);
        }
        let sounds = tracks.iter().filter(|track| track.codec.kind() == TrackKind::Audio).count();
        if let Some(max) = self.max_audio_tracks.filter(|max| sounds > *max) {
            let have = format!("there are {sounds} tracks of sound");
            found(Limit::AudioTracks, have, format!("takes {max}"), "choose one for it".to_owned());
        }
    }

    fn check_pictures(&self, tracks: &Tracks, found: &mut impl FnMut(Limit, String, String, String)) {
        let Some(video) = tracks.first(TrackKind::Video) else { return };
        if let Some(profile) = video.codec.profile_name().filter(|_| !self.video_profiles.is_empty())
            && !self.video_profiles.iter().any(|name| name.eq_ignore_ascii_case(profile))
        {
            let profiles = self.video_profiles.join(" or ");
            let have = format!("the pictures are {} {profile}", video.codec.name());
            found(
                Limit::Profile,
                have,
                format!("takes {profiles}"),
                format!("set the encoder's profile to {profiles}"),
            );
        }
        if let Some(colour) = video.codec.colour().filter(|colour| self.standard_range_only && colour.is_hdr()) {
            let advice = "set the encoder to the standard range (SDR, BT.709)".to_owned();
            let takes = "takes the standard range only".to_owned();
            found(Limit::DynamicRange, format!("the pictures are {colour}"), takes, advice);
        }
        if let Some((width, height)) = video.codec.picture_size() {
            let (long, short) = (width.max(height), width.min(height));
            let is_over = |side: u32, max: Option<u32>| max.is_some_and(|max| side > max);
            if is_over(long, self.max_long_side) || is_over(short, self.max_short_side) {
                let side = |max: Option<u32>| max.map_or_else(|| "any".to_owned(), |max| max.to_string());
                let (most_long, most_short) = (side(self.max_long_side), side(self.max_short_side));
                let takes = format!("takes at most {most_long} by {most_short} pixels");
                found(
                    Limit::Size,
                    format!("the picture is {width}x{height}"),
                    takes,
                    "set the encoder to a smaller picture".to_owned(),
                );
            }
        }
    }
}

fn megabits(bits: f64) -> String {
    format!("{:.1}", bits / 1e6)
}

fn seconds(time: MediaTime) -> f64 {
    time.ticks() as f64 / waverant_media::TICKS_PER_SECOND as f64
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use waverant_media::TrackId;
    use waverant_media::testing::{aac, h264, h264_and_aac, hevc, tracks};

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
            video_profiles: vec!["Constrained Baseline".to_owned(), "Main".to_owned()],
            needs_closed_groups: true,
            standard_range_only: true,
            missing_sound: MissingSound::Warn,
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
            has_open_groups: false,
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
    #[case::groups(StreamFacts { has_open_groups: true, ..measured() }, Limit::ClosedGroups, "(open groups) and it wants closed ones")]
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
        assert!(breaches[0].text().contains(part), "{}", breaches[0].text());
    }

    #[test]
    fn tracks_are_compared() {
        let many = tracks([(TrackId::VIDEO, hevc()), (TrackId::AUDIO, aac()), (TrackId(3), aac())]);
        let breaches = sheet().check(&good(&many));
        let limits: Vec<Limit> = breaches.iter().map(|breach| breach.limit).collect();
        assert_eq!(limits, [Limit::VideoCodec, Limit::Size, Limit::AudioTracks]);
        let silent = tracks([(TrackId::VIDEO, h264())]);
        let breaches_of = |sheet: LimitsSheet| sheet.check(&good(&silent)).first().map(Breach::text);
        let told = breaches_of(LimitsSheet { video_profiles: vec!["High".to_owned()], ..sheet() }).unwrap();
        assert!(told.starts_with("the pictures are H.264 Constrained Baseline and it takes High"), "{told}");
        assert!(breaches_of(sheet()).unwrap().starts_with("the stream has no sound and it demands some"));
        assert_eq!(breaches_of(LimitsSheet { missing_sound: MissingSound::Add, ..sheet() }), None);
        assert_eq!(breaches[0].cause("it"), "the pictures are HEVC and it takes H.264");
        assert_eq!(breaches[1].cause("it"), "the picture is 1920x1080 and it takes at most 1280 by 720 pixels");
        assert!(sheet().names("h.264") && !sheet().names("HEVC"));
    }
}
