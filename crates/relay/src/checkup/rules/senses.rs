use waverant_media::{Track, Tracks};

use super::stream::sound_name;
use super::thresholds::{BLACK, CLIPS, DARK, FROZEN, LOUD, MIN_HEARD, PHASE, QUIET, SOFT};
use crate::checkup::meters::{PictureFigures, SoundFigures};
use crate::checkup::{Condition, FindingCode};

/// Judges what is heard of a track. `target` is the loudness that the channel is to have, in LUFS.
pub fn judge_sound(track: &Track, tracks: &Tracks, heard: &SoundFigures, target: Option<f64>) -> Vec<Condition> {
    let mut found = quiet(track, tracks, heard);
    let name = sound_name(track, tracks);
    if let Some(is_full) = CLIPS.reached(heard.clip_count.into()) {
        let cause = format!("{name} is clipped: {} times in ten seconds", heard.clip_count);
        let advice = "turn it down where it is too loud first: at the microphone, the mixer, or the encoder's input";
        found.push(Condition::new(FindingCode::Clipping, cause, advice).told_anew_if(is_full));
    }
    if let Some((correlation, is_full)) = heard.correlation.and_then(|value| Some((value, PHASE.reached(-value)?))) {
        let cause = format!("the channels of {name} cancel each other out (correlation {correlation:.1})");
        let advice = "one of them is turned over: swap the poles of its cable, or undo the phase switch at the mixer; who \
                      listens in mono hears next to nothing";
        found.push(Condition::new(FindingCode::OutOfPhase, cause, advice).told_anew_if(is_full));
    }
    let loudness = heard.last_minute.filter(|_| heard.heard >= MIN_HEARD);
    found.extend(loudness.zip(target).and_then(|(loudness, target)| off_target(&name, loudness, target)));
    found.into_iter().map(|condition| condition.of_track(track.id)).collect()
}

fn quiet(track: &Track, tracks: &Tracks, heard: &SoundFigures) -> Vec<Condition> {
    let name = sound_name(track, tracks);
    let seconds: Vec<f64> = heard.quiet_for.iter().map(|quiet| quiet.as_secs_f64()).collect();
    let least = seconds.iter().copied().fold(f64::INFINITY, f64::min);
    if seconds.is_empty() {
        return Vec::new();
    }
    if least >= QUIET {
        let cause = format!("{name} is silent: below -60 dBFS for {least:.0} s");
        let advice = "look at the mute switches, the faders and the source of sound in the encoder";
        return vec![Condition::new(FindingCode::Silence, cause, advice)];
    }
    // In sound of many channels some are meant to be silent for most of a show.
    let dead = match heard.without_for[..] {
        [left, _] if left.as_secs_f64() >= QUIET => "left",
        [_, right] if right.as_secs_f64() >= QUIET => "right",
        _ => return Vec::new(),
    };
    let cause = format!("the {dead} channel of {name} is silent, the other one is not");
    let advice = "plug the microphone in for both channels, or set the source to mono in the encoder";
    vec![Condition::new(FindingCode::ChannelDead, cause, advice)]
}

fn off_target(name: &str, loudness: f64, target: f64) -> Option<Condition> {
    let (over, under) = (LOUD.reached(loudness - target), SOFT.reached(target - loudness));
    let told = format!("{name} has {loudness:.1} LUFS over the last minute, and is to have {target:.0}");
    let by = (loudness - target).abs();
    match (over, under) {
        (Some(is_full), _) => {
            let advice = format!("turn it down by {by:.0} dB; platforms turn it down themselves, and squeeze it");
            Some(Condition::new(FindingCode::TooLoud, told, advice).told_anew_if(is_full))
        }
        (_, Some(is_full)) => {
            let advice = format!("turn it up by {by:.0} dB; who listens on a phone hears little");
            Some(Condition::new(FindingCode::TooSoft, told, advice).told_anew_if(is_full))
        }
        _ => None,
    }
}

/// Judges what is seen of the pictures.
pub fn judge_picture(seen: &PictureFigures) -> Option<Condition> {
    let seconds = |length: std::time::Duration| length.as_secs_f64();
    if seconds(seen.black_for) >= BLACK {
        let cause = format!("the picture has been black for {:.0} s", seconds(seen.black_for));
        let advice = "look at the lens cap, the camera's cable, and the scene that the encoder shows";
        return Some(Condition::new(FindingCode::Black, cause, advice));
    }
    if seconds(seen.still_for) >= FROZEN {
        let cause = format!("nothing has changed in the picture for {:.0} s", seconds(seen.still_for));
        let advice = "if it is meant to stand still, mute this; else look at the camera and at the encoder's capture";
        return Some(Condition::new(FindingCode::Frozen, cause, advice));
    }
    (seconds(seen.dark_for) >= DARK).then(|| {
        let cause = format!("the picture is very dark: {:.0} % of full brightness", seen.brightness * 100.0);
        let advice = "open the aperture, raise the gain, or turn on a light";
        Condition::new(FindingCode::Dark, cause, advice)
    })
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use rstest::rstest;
    use waverant_media::testing::h264_and_aac;
    use waverant_media::{TrackId, TrackKind};

    use super::*;

    fn heard() -> SoundFigures {
        SoundFigures {
            heard: Duration::from_secs(100),
            quiet_for: vec![Duration::ZERO; 2],
            without_for: vec![Duration::ZERO; 2],
            last_minute: Some(-16.0),
            correlation: Some(0.6),
            ..SoundFigures::default()
        }
    }

    type F = SoundFigures;

    #[rstest]
    #[case::good(|_: &mut F| {}, None)]
    #[case::silent(|f: &mut F| f.quiet_for = vec![Duration::from_secs(12), Duration::from_secs(11)], Some((FindingCode::Silence, true, "for 11 s")))]
    #[case::left(|f: &mut F| f.without_for[0] = Duration::from_secs(11), Some((FindingCode::ChannelDead, true, "the left channel of the sound is silent")))]
    #[case::soon(|f: &mut F| f.quiet_for = vec![Duration::from_secs(9); 2], None)]
    #[case::clipped(|f: &mut F| f.clip_count = 20, Some((FindingCode::Clipping, true, "20 times")))]
    #[case::clipped_less(|f: &mut F| f.clip_count = 3, Some((FindingCode::Clipping, false, "3 times")))]
    #[case::turned(|f: &mut F| f.correlation = Some(-0.9), Some((FindingCode::OutOfPhase, true, "correlation -0.9")))]
    #[case::loud(|f: &mut F| f.last_minute = Some(-10.0), Some((FindingCode::TooLoud, true, "-10.0 LUFS")))]
    #[case::soft(|f: &mut F| f.last_minute = Some(-26.0), Some((FindingCode::TooSoft, true, "is to have -16")))]
    #[case::soon_soft(|f: &mut F| (f.last_minute, f.heard) = (Some(-26.0), Duration::from_secs(5)), None)]
    fn sound_is_judged(#[case] change: fn(&mut F), #[case] expected: Option<(FindingCode, bool, &str)>) {
        let (tracks, mut figures) = (h264_and_aac(), heard());
        change(&mut figures);
        let found = judge_sound(tracks.first(TrackKind::Audio).unwrap(), &tracks, &figures, Some(-16.0));
        let codes: Vec<_> = found.iter().map(|found| (found.key.code, found.is_full, found.key.track)).collect();
        let wanted = expected.map(|(code, is_full, _)| (code, is_full, Some(TrackId::AUDIO)));
        assert_eq!(codes, wanted.into_iter().collect::<Vec<_>>());
        for (found, (.., part)) in found.iter().zip(expected) {
            assert!(found.cause.contains(part), "{}", found.cause);
        }
    }

    #[test]
    fn without_a_target_loudness_is_not_judged() {
        let (tracks, loud) = (h264_and_aac(), SoundFigures { last_minute: Some(-3.0), ..heard() });
        assert_eq!(judge_sound(tracks.first(TrackKind::Audio).unwrap(), &tracks, &loud, None), []);
    }

    #[test]
    fn pictures_are_judged() {
        let code = |black: u64, still: u64, dark: u64| {
            let seconds = Duration::from_secs;
            let figures = PictureFigures {
                brightness: 0.1,
                black_for: seconds(black),
                still_for: seconds(still),
                dark_for: seconds(dark),
            };
            judge_picture(&figures).map(|found| found.key.code)
        };
        assert_eq!([code(0, 0, 0), code(9, 9, 9)], [None, None]);
        assert_eq!([code(10, 10, 10), code(0, 10, 0)], [Some(FindingCode::Black), Some(FindingCode::Frozen)]);
        assert_eq!([code(0, 0, 30), code(0, 0, 29)], [Some(FindingCode::Dark), None]);
    }
}
