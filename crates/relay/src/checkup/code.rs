use std::time::Duration;

/// How bad a finding is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Severity {
    /// Odd, and worth knowing.
    Note,
    /// Something suffers, or soon will.
    Warning,
    /// The show does not get where it should.
    Alarm,
}

macro_rules! codes {
    ($($(#[doc = $doc:literal])+ $name:ident = $word:literal,)+) => {
        /// What a finding is about. Its word is stable.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
        #[non_exhaustive]
        pub enum FindingCode {
            $($(#[doc = $doc])+ $name,)+
        }

        impl FindingCode {
            /// All of them.
            pub const ALL: &[Self] = &[$(Self::$name),+];

            /// The stable word.
            pub fn word(self) -> &'static str {
                match self {
                    $(Self::$name => $word,)+
                }
            }
        }
    };
}

codes! {
    /// The stream has no track of sound.
    SoundMissing = "sound_missing",
    /// A track of sound that was there sends nothing.
    SoundStopped = "sound_stopped",
    /// A track of sound is silent.
    Silence = "silence",
    /// One of two channels is silent.
    ChannelDead = "channel_dead",
    /// Sound is cut off at full scale.
    Clipping = "clipping",
    /// Two channels cancel each other out.
    OutOfPhase = "out_of_phase",
    /// Sound is louder than it is to be.
    TooLoud = "too_loud",
    /// Sound is softer than it is to be.
    TooSoft = "too_soft",
    /// The times of sound run away from its samples, or from the pictures.
    SoundDrifts = "sound_drifts",
    /// The stream has no pictures.
    PictureMissing = "picture_missing",
    /// Pictures that were there do not come.
    PictureStopped = "picture_stopped",
    /// The picture is black.
    Black = "black",
    /// Nothing changes in the picture.
    Frozen = "frozen",
    /// The picture is very dark.
    Dark = "dark",
    /// Keyframes are far apart, or none comes.
    KeyframesRare = "keyframes_rare",
    /// Pictures are sampled in a way that few players and platforms take.
    SamplingRare = "sampling_rare",
    /// Groups of pictures need the group before.
    GroupsOpen = "groups_open",
    /// Pictures do not come evenly.
    FrameRateVaries = "frame_rate_varies",
    /// The encoder leaves pictures out.
    PicturesSkipped = "pictures_skipped",
    /// The bitrate has fallen.
    BitrateFallen = "bitrate_fallen",
    /// The stream comes in bursts with pauses between.
    ComesInBursts = "comes_in_bursts",
    /// The encoder's clock jumped or ran back.
    ClockJumps = "clock_jumps",
    /// The encoder's clock runs at another speed than ours.
    ClockDrifts = "clock_drifts",
    /// Something of the stream is of a kind that is not carried.
    NotCarried = "not_carried",
    /// Something of the stream could not be read.
    Damaged = "damaged",
    /// The encoder came by an address that is not quite right.
    AddressOdd = "address_odd",
    /// A line over SRT loses what is not made good, or much.
    LineLoses = "line_loses",
    /// The latency of a line over SRT is too small for it.
    LatencySmall = "latency_small",
    /// The latency of a line over SRT is more than its buffer holds.
    LatencyLarge = "latency_large",
    /// A line over SRT cannot be decrypted.
    LineLocked = "line_locked",
    /// The destination takes encrypted connections only.
    LimitTls = "limit_tls",
    /// The destination does not take the codec of the pictures.
    LimitVideoCodec = "limit_video_codec",
    /// The destination does not take the codec of the sound.
    LimitAudioCodec = "limit_audio_codec",
    /// The bitrate is more than the destination takes.
    LimitBitrate = "limit_bitrate",
    /// The picture is larger than the destination takes.
    LimitSize = "limit_size",
    /// There are more pictures a second than the destination takes.
    LimitFrameRate = "limit_frame_rate",
    /// Keyframes are further apart than the destination takes.
    LimitKeyframes = "limit_keyframes",
    /// There are more tracks of sound than the destination takes.
    LimitAudioTracks = "limit_audio_tracks",
    /// The destination does not take the profile of the pictures.
    LimitProfile = "limit_profile",
    /// The destination wants groups of pictures that need nothing of the group before.
    LimitClosedGroups = "limit_closed_groups",
    /// The destination takes the usual range of light only.
    LimitDynamicRange = "limit_dynamic_range",
    /// The destination demands sound, and there is none.
    LimitSound = "limit_sound",
    /// The destination said no.
    LegRefused = "leg_refused",
    /// The destination is not reached.
    LegDown = "leg_down",
    /// The destination is lost again and again.
    LegFlaps = "leg_flaps",
    /// The destination takes less than the show has.
    LegSlow = "leg_slow",
    /// No holding picture can stand in.
    SlateUnfit = "slate_unfit",
    /// The disk stopped the recording.
    RecordingStopped = "recording_stopped",
    /// The disk is slower than the show.
    RecordingGaps = "recording_gaps",
    /// The show is not told from its depot as it should be.
    PublishingFails = "publishing_fails",
    /// The uplink is nearly full, or full.
    UplinkFull = "uplink_full",
    /// The machine's processors are busy.
    CpuShort = "cpu_short",
    /// The machine's memory is nearly used up.
    MemoryShort = "memory_short",
    /// The disk of the recordings lasts for few hours, or is full.
    DiskLow = "disk_low",
    /// Sound and pictures are looked at less than they could be.
    CheckupThinned = "checkup_thinned",
    /// The database does not answer.
    DatabaseAway = "database_away",
    /// A system that is asked before somebody is let in does not answer.
    HouseSystemSilent = "house_system_silent",
    /// A target of calls takes none.
    CallTargetFails = "call_target_fails",
    /// The certificate ends soon, or has ended.
    CertificateEnds = "certificate_ends",
    /// The authority gives no new certificate.
    CertificateNotRenewed = "certificate_not_renewed",
    /// The machine's clock was put, or cannot be right.
    MachineClockOff = "machine_clock_off",
}

/// How long something has to last before it counts, and before it is forgiven: so that nothing flutters.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Patience {
    /// It is told after this.
    pub raised_after: Duration,
    /// It is no longer told after this.
    pub cleared_after: Duration,
}

impl FindingCode {
    /// The code with this word.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.iter().copied().find(|code| code.word() == word)
    }

    /// True for what a destination's limits sheet says.
    pub fn is_limit(self) -> bool {
        self.word().starts_with("limit_")
    }

    /// True if destinations suffer from it, or will.
    pub fn reaches_destinations(self) -> bool {
        !matches!(
            self,
            Self::AddressOdd
                | Self::RecordingStopped
                | Self::RecordingGaps
                | Self::PublishingFails
                | Self::DiskLow
                | Self::DatabaseAway
                | Self::HouseSystemSilent
                | Self::CallTargetFails
                | Self::CertificateEnds
                | Self::CertificateNotRenewed
                | Self::MachineClockOff
        )
    }

    /// How bad it is, where the case at hand does not say.
    pub fn severity(self) -> Severity {
        match self {
            Self::AddressOdd
            | Self::CheckupThinned
            | Self::Dark
            | Self::PictureMissing
            | Self::GroupsOpen
            | Self::SamplingRare
            | Self::ClockDrifts
            | Self::SlateUnfit => Severity::Note,
            Self::PictureStopped
            | Self::Black
            | Self::LineLocked
            | Self::LegRefused
            | Self::LegDown
            | Self::RecordingStopped
            | Self::DatabaseAway => Severity::Alarm,
            _ => Severity::Warning,
        }
    }

    /// How long it has to last.
    pub fn patience(self) -> Patience {
        let (raised, cleared) = match self {
            Self::AddressOdd | Self::NotCarried | Self::LegRefused | Self::SlateUnfit | Self::RecordingStopped => {
                (0, 0)
            }
            Self::LimitTls | Self::LimitVideoCodec | Self::LimitAudioCodec => (0, 0),
            Self::LimitSize | Self::LimitAudioTracks | Self::LimitProfile | Self::LimitDynamicRange => (0, 0),
            Self::PublishingFails | Self::SamplingRare | Self::HouseSystemSilent | Self::CallTargetFails => (0, 0),
            Self::CertificateEnds | Self::CertificateNotRenewed => (0, 0),
            Self::Damaged | Self::ClockJumps | Self::KeyframesRare | Self::LineLocked => (0, 5),
            Self::LatencyLarge | Self::BitrateFallen => (0, 10),
            Self::LineLoses | Self::LatencySmall | Self::RecordingGaps | Self::LegSlow => (0, 30),
            Self::Black | Self::Frozen | Self::Silence | Self::ChannelDead => (0, 3),
            Self::PictureStopped => (2, 3),
            Self::SoundMissing | Self::SoundStopped | Self::LimitSound => (5, 3),
            Self::PictureMissing | Self::LegDown => (10, 3),
            Self::DatabaseAway | Self::DiskLow => (5, 10),
            Self::LimitBitrate | Self::LimitFrameRate | Self::LimitKeyframes => (10, 10),
            Self::LimitClosedGroups => (10, 20),
            Self::MachineClockOff => (0, 60),
            Self::FrameRateVaries | Self::PicturesSkipped | Self::GroupsOpen => (10, 20),
            Self::UplinkFull => (10, 20),
            Self::Clipping | Self::OutOfPhase | Self::Dark => (5, 10),
            Self::TooLoud | Self::TooSoft => (20, 20),
            Self::CheckupThinned | Self::CpuShort => (30, 60),
            Self::MemoryShort => (10, 30),
            Self::SoundDrifts => (10, 30),
            Self::ComesInBursts => (15, 15),
            Self::ClockDrifts => (30, 30),
            Self::LegFlaps => (0, 60),
        };
        Patience { raised_after: Duration::from_secs(raised), cleared_after: Duration::from_secs(cleared) }
    }
}
