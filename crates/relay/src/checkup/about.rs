//! What stands in docs/findings.md, and is told of a code without a case at hand.

use super::code::FindingCode;
use super::rules::thresholds as at;

/// What a code stands for.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct About {
    /// When it is told, and until when, with the numbers.
    pub when: String,
    /// What it usually means.
    pub means: &'static str,
    /// What to do.
    pub advice: &'static str,
}

impl About {
    pub(super) fn new(when: impl Into<String>, (means, advice): (&'static str, &'static str)) -> Self {
        Self { when: when.into(), means, advice }
    }
}

/// What a limits sheet says, of what is fixed and of what is measured.
const SHEET: &str = "the limits sheet of a destination says so";
const MEASURED: &str = "it is 5 % more than the limits sheet of a destination says";

pub(super) fn percent(share: f64) -> String {
    format!("{:.0} %", share * 100.0)
}

impl FindingCode {
    /// What it stands for.
    pub fn about(self) -> About {
        let stream = [Self::sound, Self::heard, Self::seen, Self::pictures, Self::arrival, Self::intake, Self::lines];
        let mut groups = stream.into_iter().chain([Self::limits, Self::legs, Self::house, Self::machine, Self::times]);
        groups.find_map(|group| group(self)).unwrap_or_default()
    }

    /// Those of sound.
    fn sound(self) -> Option<About> {
        Some(match self {
            Self::SoundMissing => About::new(
                "the stream has no track of sound",
                (
                    "no source of sound is chosen in the encoder, or its track is switched off",
                    "add one; most platforms refuse a stream without, and silence will do",
                ),
            ),
            Self::SoundStopped => About::new(
                "nothing came of a track of sound for 3 s, while others go on",
                ("a sound card was unplugged, or its driver hangs", "choose the source of sound in the encoder anew"),
            ),
            Self::SoundDrifts => About::new(
                format!(
                    "the times of sound run away from its samples, or its arrival from that of the pictures, by {} ms a \
                 minute; until less than {}",
                    at::DRIFT.raise,
                    at::DRIFT.keep
                ),
                (
                    "the sound card and the camera have clocks of their own, or the sample rates differ",
                    "set both to 48 kHz and one device as the clock; restarting the encoder sets it right for a while",
                ),
            ),
            _ => return None,
        })
    }

    /// Those of what is heard.
    fn heard(self) -> Option<About> {
        Some(match self {
            Self::Silence => About::new(
                format!("all channels of a track are below -60 dBFS for {} s", at::QUIET),
                ("a mute switch, a fader, or a source that was not chosen", "look at them, from the microphone on"),
            ),
            Self::ChannelDead => About::new(
                format!("one of two channels stays below -60 dBFS while {} s are heard of the other", at::QUIET),
                ("a microphone on one side of a stereo input", "set the source to mono in the encoder"),
            ),
            Self::Clipping => About::new(
                format!(
                    "three samples in a row are at full scale {} times in ten seconds; until less than {}",
                    at::CLIPS.raise,
                    at::CLIPS.keep
                ),
                ("something before the encoder is too loud", "turn it down where it is too loud first"),
            ),
            Self::OutOfPhase => About::new(
                format!(
                    "two channels have a correlation below -{} over three seconds; until above -{}",
                    at::PHASE.raise,
                    at::PHASE.keep
                ),
                (
                    "a cable or a switch turns one channel over",
                    "swap its poles; who listens in mono hears next to nothing",
                ),
            ),
            Self::TooLoud => About::new(
                format!(
                    "the last minute is {} LU above the loudness that the channel is to have; until less than {}",
                    at::LOUD.raise,
                    at::LOUD.keep
                ),
                ("the mix was set by ear", "turn it down; platforms turn it down themselves, and squeeze it"),
            ),
            Self::TooSoft => About::new(
                format!(
                    "the last minute is {} LU below the loudness that the channel is to have; until less than {}",
                    at::SOFT.raise,
                    at::SOFT.keep
                ),
                ("the mix was set by ear", "turn it up; who listens on a phone hears little"),
            ),
            _ => return None,
        })
    }

    /// Those of what is seen.
    fn seen(self) -> Option<About> {
        Some(match self {
            Self::Black => About::new(
                format!("all keyframes that are looked at are black for {} s", at::BLACK),
                ("a lens cap, a cable, or an empty scene in the encoder", "look at them"),
            ),
            Self::Frozen => About::new(
                format!("nothing changes between keyframes for {} s", at::FROZEN),
                ("a camera or a capture that hangs; or a slide", "look at the camera; mute it if it is meant"),
            ),
            Self::Dark => About::new(
                format!("keyframes have less than 16 % of full brightness for {} s", at::DARK),
                ("too little light", "open the aperture, raise the gain, or turn on a light"),
            ),
            Self::CheckupThinned => About::new(
                "sound and pictures of all shows would take more of the processor than `checkup.cpu_percent` gives",
                ("many shows on a small machine", "nothing, or raise the setting; legs are never touched by it"),
            ),
            _ => return None,
        })
    }

    /// Those of pictures.
    fn pictures(self) -> Option<About> {
        Some(match self {
            Self::PictureMissing => About::new(
                "the stream has no track of pictures",
                ("the encoder sends sound only", "add a source of pictures; a still will do"),
            ),
            Self::PictureStopped => About::new(
                "no picture came for 3 s, while other tracks go on",
                ("the capture stopped, or the machine of the encoder is overloaded", "look at the encoder"),
            ),
            Self::KeyframesRare => About::new(
                format!(
                    "keyframes are {:.0} s apart, or none came for so long; until the last four groups were shorter",
                    at::KEYFRAMES_RARE.raise
                ),
                (
                    "the keyframe interval is left to the encoder, which makes one when the scene changes",
                    "set it to 2 s; players and platforms begin at keyframes only",
                ),
            ),
            Self::SamplingRare => About::new(
                "pictures of H.264 are not 4:2:0 with 8 bits",
                (
                    "the encoder is set to 4:2:2, 4:4:4 or 10 bits, as for editing",
                    "set it to 4:2:0 with 8 bits (profile High or Main), unless all destinations take more",
                ),
            ),
            Self::GroupsOpen => About::new(
                "one of the last four groups of pictures needs the one before",
                (
                    "the encoder saves bits at keyframes",
                    "set it to closed groups; some platforms stutter at every keyframe otherwise",
                ),
            ),
            Self::FrameRateVaries => About::new(
                format!(
                    "{} of the steps between pictures are uneven over ten seconds; until less than {}",
                    percent(at::UNEVEN.raise),
                    percent(at::UNEVEN.keep)
                ),
                (
                    "the source has no steady rate: a phone, a screen, a web page",
                    "set the encoder to a constant frame rate",
                ),
            ),
            Self::PicturesSkipped => About::new(
                format!(
                    "{} of the pictures are missing over ten seconds; until less than {}",
                    percent(at::SKIPPED.raise),
                    percent(at::SKIPPED.keep)
                ),
                (
                    "the encoder's machine is overloaded, or it drops pictures for a narrow line",
                    "choose a lighter preset, a smaller picture or a lower bitrate",
                ),
            ),
            _ => return None,
        })
    }

    /// Those of how a stream comes in.
    fn arrival(self) -> Option<About> {
        Some(match self {
            Self::BitrateFallen => About::new(
                "ten seconds carry less than half of what the two minutes before did; until 70 % of \
                                    it, or for ten minutes",
                (
                    "the encoder has turned down for a narrow line, or the picture stands still",
                    "look at the encoder's upload, and at who else uses it",
                ),
            ),
            Self::ComesInBursts => About::new(
                format!(
                    "nothing came for {:.1} s within ten seconds, again and again; until pauses are below {:.1} s",
                    at::PAUSE.raise,
                    at::PAUSE.keep
                ),
                (
                    "the encoder's line stands still again and again, as wireless ones do",
                    "use a cable, another line, or SRT with a longer latency",
                ),
            ),
            Self::ClockJumps => About::new(
                "the encoder's clock jumped or ran back in the last minute",
                (
                    "the encoder puts sources together whose clocks differ",
                    "restart the encoder; leave out playlists and network sources",
                ),
            ),
            Self::ClockDrifts => About::new(
                format!(
                    "the encoder's clock is off by {:.0} millionths, and that is certain; until less than {:.0}",
                    at::CLOCK_PPM.raise,
                    at::CLOCK_PPM.keep
                ),
                (
                    "the encoder follows its sound card's clock",
                    "nothing for a short show; in a long one have it follow its machine's clock",
                ),
            ),
            _ => return None,
        })
    }

    /// Those of what is sent, and how it came here.
    fn intake(self) -> Option<About> {
        Some(match self {
            Self::NotCarried => About::new(
                "the stream has something of a kind that is not carried",
                (
                    "the encoder uses a codec that no destination would take",
                    "set it to H.264 or HEVC, and to AAC or Opus",
                ),
            ),
            Self::Damaged => About::new(
                "something of the stream could not be read",
                ("the line or the encoder is at fault", "try another line, or restart the encoder"),
            ),
            Self::AddressOdd => About::new(
                "the encoder came by an address that leads here and is not quite the channel's",
                (
                    "the path in the encoder's address names another channel, or none",
                    "copy the address from the channel's page; the key alone decides, so the show goes on",
                ),
            ),
            _ => return None,
        })
    }

    /// Those of lines over SRT.
    fn lines(self) -> Option<About> {
        Some(match self {
            Self::LineLoses => About::new(
                "packets did not come in time in the last ten seconds, or more than 5 % of ten seconds were lost at first",
                (
                    "the line is worse than the latency makes good, or too thin for the bitrate",
                    "set the latency that is advised, or lower the bitrate",
                ),
            ),
            Self::LatencySmall => About::new(
                "more than 0.1 % of ten seconds is lost at first, and the latency is less than that asks for",
                ("the latency was set for a shorter way", "set the latency that is advised"),
            ),
            Self::LatencyLarge => About::new(
                "the latency asks for more packets than the buffer holds",
                ("a very long latency at a high bitrate", "set the latency that is advised"),
            ),
            Self::LineLocked => About::new(
                "nothing that came could be decrypted",
                ("the passphrases differ", "set the passphrase anew at both ends"),
            ),
            _ => return None,
        })
    }

    /// Those of limits sheets.
    fn limits(self) -> Option<About> {
        Some(match self {
            Self::LimitTls => {
                About::new(SHEET, ("the address of the platform is the open one", "use its rtmps:// address"))
            }
            Self::LimitVideoCodec => {
                About::new(SHEET, ("the encoder uses a codec that is too new for the platform", "set it to H.264"))
            }
            Self::LimitAudioCodec => {
                About::new(SHEET, ("the encoder uses a codec that is too new for the platform", "set it to AAC"))
            }
            Self::LimitBitrate => About::new(
                MEASURED,
                (
                    "the bitrate was set for a platform that takes more",
                    "set the encoder to what the platform takes that takes least",
                ),
            ),
            Self::LimitSize => {
                About::new(SHEET, ("the picture is larger than the platform takes", "set the encoder to a smaller one"))
            }
            Self::LimitFrameRate => About::new(
                MEASURED,
                ("the platform takes fewer pictures a second", "set the encoder's frame rate lower"),
            ),
            Self::LimitKeyframes => About::new(
                MEASURED,
                ("the keyframe interval is left to the encoder", "set it to what the platform asks for, mostly 2 s"),
            ),
            Self::LimitAudioTracks => {
                About::new(SHEET, ("the platform takes one sound", "choose one for this destination"))
            }
            Self::LimitProfile => About::new(
                SHEET,
                (
                    "the encoder uses a profile that the platform does not know",
                    "set it to Main or High, as the platform asks",
                ),
            ),
            Self::LimitClosedGroups => About::new(
                "groups of pictures are open, and the limits sheet of a destination wants closed ones",
                ("the encoder's open GOP is on, which saves some bits", "switch it off"),
            ),
            Self::LimitDynamicRange => About::new(
                SHEET,
                ("camera or encoder are set to high dynamic range", "set both to the standard range (SDR, BT.709)"),
            ),
            Self::LimitSound => About::new(
                "the stream has no sound, and a destination is to be warned of that",
                ("no source of sound is chosen in the encoder", "add one, or have silence added for this destination"),
            ),
            _ => return None,
        })
    }

    /// Those of destinations.
    fn legs(self) -> Option<About> {
        Some(match self {
            Self::LegRefused => About::new(
                "the platform refused the show, and is not dialed again by itself",
                (
                    "key or address are wrong or used up, or no show is set up at the platform",
                    "compare both with what the platform shows, then switch the destination off and on",
                ),
            ),
            Self::LegDown => About::new(
                "a destination that is switched on is not connected",
                (
                    "the platform is away, its address is wrong, or our uplink is down",
                    "nothing: it is tried again by itself; if all destinations are down, look at the uplink",
                ),
            ),
            Self::LegFlaps => About::new(
                format!(
                    "a destination was dialed again {:.0} times in five minutes; until less than {:.0}",
                    at::REDIALS.raise,
                    at::REDIALS.keep
                ),
                (
                    "the platform takes the stream and drops it: something in it is not as it wants, or the way is bad",
                    "compare the stream with what it takes; another region or a lower bitrate may hold",
                ),
            ),
            Self::LegSlow => About::new(
                format!(
                    "a destination missed pictures in the last minute, or is {:.0} s behind; until less than {:.0} s",
                    at::BEHIND.raise,
                    at::BEHIND.keep
                ),
                (
                    "the platform or the way to it is slower than the show",
                    "lower the bitrate, or switch another destination off",
                ),
            ),
            _ => return None,
        })
    }

    /// Those of what stands around the stream.
    fn house(self) -> Option<About> {
        Some(match self {
            Self::SlateUnfit => About::new(
                "no holding picture can be made for this stream, or the uploaded one does not fit",
                (
                    "the stream has a codec for which no picture can be made here, or the uploaded clip another one",
                    "upload a clip that was made by the same encoder, with the same settings",
                ),
            ),
            Self::RecordingStopped => About::new(
                "the recorder of a show that is to be recorded stands still",
                ("the disk is full or away", "make room, or look at the disk"),
            ),
            Self::RecordingGaps => About::new(
                "parts of the show are missing in a take",
                ("the disk stood still for longer than the show waits", "look at the disk"),
            ),
            Self::PublishingFails => About::new(
                "segments or playlists do not get to the depot from which the show is told",
                ("the depot is away, full, or its keys are wrong", "try the depot"),
            ),
            _ => return None,
        })
    }

    /// Those of certificate and clock.
    fn times(self) -> Option<About> {
        Some(match self {
            Self::CertificateEnds => About::new(
                "less than 14 days are left of the certificate, or a fifth of its life if that is less; an alarm when it has ended",
                (
                    "it is renewed by hand, or what renews it has failed",
                    "renew it and put it in its place: it is read anew without a restart",
                ),
            ),
            Self::CertificateNotRenewed => About::new(
                "the authority of [authority] gives no new certificate; an alarm if there is none yet",
                ("it does not reach us at the names, or we not it", "see the page Certificate; it is tried again"),
            ),
            Self::MachineClockOff => About::new(
                "the clock on the wall was put by more than 2 s, or shows a time from before this version was made",
                (
                    "the machine has no time service, or it has just found the right time",
                    "set up a time service (NTP): certificates, key times and file names go by this clock",
                ),
            ),
            _ => return None,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_code_is_explained() {
        for code in FindingCode::ALL {
            let About { when, means, advice } = code.about();
            assert!(!when.is_empty() && !means.is_empty() && !advice.is_empty(), "{code:?}");
        }
    }
}
