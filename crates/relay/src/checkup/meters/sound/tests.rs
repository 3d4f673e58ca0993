#![expect(clippy::cast_possible_truncation, reason = "samples of a tone")]

use std::f64::consts::TAU;

use proptest::prelude::*;
use rstest::rstest;

use super::*;

const RATE: u32 = 48_000;

/// Seconds of a tone of 1 kHz with its peak at a level in dBFS, on each channel; None is silence.
type Part<'a> = (f64, &'a [Option<f64>]);

/// Plays parts, a picture's length at a time.
fn heard(channels: usize, parts: &[Part<'_>]) -> SoundMeter {
    let mut meter = SoundMeter::new(RATE, channels).unwrap();
    let mut number = 0u64;
    for (seconds, levels) in parts {
        let end = number + (seconds * f64::from(RATE)).round() as u64;
        while number < end {
            let until = end.min(number + 1600);
            let mut samples = Vec::new();
            for at in number..until {
                let tone = (TAU * 1000.0 * at as f64 / f64::from(RATE)).sin();
                let amplitude = |level: &Option<f64>| level.map_or(0.0, |level| 10f64.powf(level / 20.0));
                samples.extend(levels.iter().map(|level| (tone * amplitude(level)) as f32));
            }
            meter.push(ticks(number, RATE), &samples);
            number = until;
        }
    }
    meter
}

fn stereo(parts: &[(f64, f64)]) -> SoundFigures {
    let levels: Vec<[Option<f64>; 2]> = parts.iter().map(|(_, level)| [Some(*level); 2]).collect();
    let parts: Vec<Part<'_>> =
        parts.iter().zip(&levels).map(|((seconds, _), levels)| (*seconds, &levels[..])).collect();
    heard(2, &parts).figures()
}

/// The cases of EBU Tech 3341, table 1, that a tone makes.
#[rstest]
#[case::one(&[(20.0, -23.0)], -23.0)]
#[case::two(&[(20.0, -33.0)], -33.0)]
#[case::three(&[(10.0, -36.0), (60.0, -23.0), (10.0, -36.0)], -23.0)]
#[case::four(&[(10.0, -72.0), (10.0, -36.0), (60.0, -23.0), (10.0, -36.0), (10.0, -72.0)], -23.0)]
#[case::five(&[(20.0, -26.0), (20.1, -20.0), (20.0, -26.0)], -23.0)]
fn loudness_is_within_a_tenth(#[case] parts: &[(f64, f64)], #[case] expected: f64) {
    let found = stereo(parts);
    let integrated = found.integrated.unwrap();
    assert!((integrated - expected).abs() <= 0.1, "{integrated} LUFS");
    if let [(_, level)] = parts {
        assert!((found.momentary.unwrap() - level).abs() <= 0.1, "{found:?}");
        assert!((found.short_term.unwrap() - level).abs() <= 0.1, "{found:?}");
        assert!((found.last_minute.unwrap() - level).abs() <= 0.2, "{found:?}");
    }
}

/// Case 6 of EBU Tech 3341: five channels, of which those behind count 1.5 dB more.
#[test]
fn five_channels_are_weighted() {
    let levels = [-28.0, -28.0, -24.0, -200.0, -30.0, -30.0].map(Some);
    let integrated = heard(6, &[(20.0, &levels)]).figures().integrated.unwrap();
    assert!((integrated + 23.0).abs() <= 0.1, "{integrated} LUFS");
}

/// The cases of EBU Tech 3342, table 1.
#[rstest]
#[case::one(&[(20.0, -20.0), (20.0, -30.0)], 10.0)]
#[case::two(&[(20.0, -20.0), (20.0, -15.0)], 5.0)]
#[case::three(&[(20.0, -40.0), (20.0, -20.0)], 20.0)]
#[case::four(&[(20.0, -50.0), (20.0, -35.0), (20.0, -20.0), (20.0, -35.0), (20.0, -50.0)], 15.0)]
fn ranges_are_within_one(#[case] parts: &[(f64, f64)], #[case] expected: f64) {
    let range = stereo(parts).range.unwrap();
    assert!((range - expected).abs() <= 1.0, "{range} LU");
}

#[test]
fn levels_are_those_of_the_tone() {
    let found = stereo(&[(5.0, -6.0)]);
    for (rms, peak) in found.rms.iter().zip(&found.peak) {
        // The mean of a sine is 3.01 dB below its peak.
        assert!((rms.unwrap() + 9.01).abs() < 0.02 && (peak.unwrap() + 6.0).abs() < 0.02, "{found:?}");
    }
    assert!((found.true_peak.unwrap() + 6.0).abs() < 0.5, "{found:?}");
    assert!((found.correlation.unwrap() - 1.0).abs() < 1e-6, "{found:?}");
    assert_eq!((found.clip_count, found.heard), (0, Duration::from_secs(5)));
    assert!(found.quiet_for.iter().all(Duration::is_zero), "{found:?}");
}

#[test]
fn silence_is_counted_per_channel() {
    let found = heard(2, &[(5.0, &[Some(-20.0), Some(-20.0)]), (12.0, &[Some(-20.0), Some(-70.0)])]).figures();
    assert!(found.quiet_for[0].is_zero() && (found.quiet_for[1].as_secs_f64() - 12.0).abs() < 0.11, "{found:?}");
    assert_eq!((found.without_for[0], found.without_for[1].as_secs()), (Duration::ZERO, 12), "{found:?}");
    assert_eq!(found.correlation, None, "one of them is silent");
    let found = heard(1, &[(10.0, &[None])]).figures();
    assert!((found.quiet_for[0].as_secs_f64() - 9.9).abs() < 0.01, "{found:?}");
    assert_eq!((found.rms, found.momentary, found.last_minute), (vec![None], None, None));
}

#[test]
fn clips_and_turned_channels_are_found() {
    let mut meter = SoundMeter::new(RATE, 2).unwrap();
    for second in 0..5u64 {
        let tone = (0..RATE).map(|at| (TAU * 200.0 * f64::from(at) / f64::from(RATE)).sin() * 1.5);
        let samples: Vec<f32> =
            tone.map(|sample| sample as f32).flat_map(|left| [left.clamp(-1.0, 1.0), -left / 4.0]).collect();
        meter.push(ticks(second * u64::from(RATE), RATE), &samples);
    }
    let found = meter.figures();
    // Each half wave of the first channel.
    assert!((1990..=2000).contains(&found.clip_count), "{found:?}");
    assert!(found.correlation.unwrap() < -0.9, "{found:?}");
}

#[test]
fn what_nobody_sends_is_not_listened_to() {
    assert!(SoundMeter::new(48_000, 0).is_none() && SoundMeter::new(48_000, 9).is_none());
    assert!(SoundMeter::new(0, 2).is_none() && SoundMeter::new(4_000_000, 2).is_none());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(32))]
    #[test]
    fn any_samples_are_taken(
        samples in proptest::collection::vec(proptest::num::f32::ANY, 0..20_000),
        channels in 1usize..=8,
    ) {
        let mut meter = SoundMeter::new(8_000, channels).unwrap();
        meter.push(MediaTime::ZERO, &samples);
        let _ = meter.figures();
    }
}
