//! Clips of known truth, from the packets to the findings, on a clock of the test's own: each fault is found within its
//! time, alone, and cleared; and an hour without a fault has no finding.
#![expect(clippy::disallowed_methods, reason = "one start instant is taken, then only added to")]

use std::time::{Duration, Instant};

use bytes::Bytes;
use rstest::rstest;
use waverant_media::testing::{h264, h264_and_aac, tracks};
use waverant_media::{MediaTime, Packet, TrackId, Tracks};

use super::*;

/// A stream whose faults begin and end at a second.
struct Clip {
    tracks: Tracks,
    /// The step to the next picture in ms, of the number of the picture and whether the fault is on.
    step: fn(u64, bool) -> f64,
    /// Bytes of a picture, and how many pictures a group has.
    picture: fn(bool) -> (usize, u64),
    /// How late a packet of this time in ms arrives.
    late: fn(f64, bool) -> f64,
    /// What a frame of sound bears beyond its true time in ms, of the time since the fault began.
    sound: fn(f64) -> f64,
    has_sound: fn(bool) -> bool,
}

/// The fault is on in these seconds.
const FAULT: std::ops::Range<f64> = 150.0..330.0;

impl Default for Clip {
    fn default() -> Self {
        Self {
            tracks: h264_and_aac(),
            step: |_, _| 1000.0 / 30.0,
            picture: |_| (24_000, 60),
            late: |_, _| 0.0,
            sound: |_| 0.0,
            has_sound: |_| true,
        }
    }
}

fn is_fault(millis: f64) -> bool {
    FAULT.contains(&(millis / 1000.0))
}

fn packet(track: TrackId, millis: f64, is_start: bool, size: usize) -> Packet {
    // Rounded to milliseconds, as RTMP has them.
    let time = MediaTime::from_millis(Duration::from_secs_f64((millis + 0.5) / 1000.0).as_millis().try_into().unwrap());
    let payload = Bytes::from_static(&[0; 24_000]).slice(..size);
    Packet { track, kind: track.kind(), dts: time, pts: time, random_access: is_start, payload }
}

/// A clip being played: its pictures and sounds in the order of their times.
struct Player<'a> {
    clip: &'a Clip,
    picture: (u64, u64, f64),
    sound: f64,
    arrived: f64,
}

impl Player<'_> {
    /// The next packet, and when it arrives in ms: not before the one before it.
    fn next(&mut self) -> (f64, Packet) {
        let (at, packet) = self.sent();
        self.arrived = self.arrived.max(at);
        (self.arrived, packet)
    }

    fn sent(&mut self) -> (f64, Packet) {
        let (number, in_group, at) = self.picture;
        if self.sound <= at {
            let at = self.sound;
            self.sound += 1024.0 / 48.0;
            let beyond = if is_fault(at) { (self.clip.sound)(at - FAULT.start * 1000.0) } else { 0.0 };
            let sound = packet(TrackId::AUDIO, at + beyond, true, 340);
            return (at + (self.clip.late)(at, is_fault(at)), sound);
        }
        let is_fault = is_fault(at);
        let (size, group) = (self.clip.picture)(is_fault);
        let is_key = in_group >= group || number == 0;
        self.picture = (number + 1, if is_key { 1 } else { in_group + 1 }, at + (self.clip.step)(number, is_fault));
        (at + (self.clip.late)(at, is_fault), packet(TrackId::VIDEO, at, is_key, size))
    }
}

/// Plays a clip for so many seconds and returns the findings that were raised (true) and cleared, with the second.
fn play(clip: &Clip, seconds: u64) -> Vec<(u64, FindingCode, bool)> {
    let start = Instant::now();
    let (mut meter, mut checkup, mut changes) = (StreamMeter::new(start), Checkup::default(), Vec::new());
    let mut player = Player { clip, picture: (0, 0, 0.0), sound: 0.0, arrived: 0.0 };
    let (mut next, mut second) = (player.next(), 1);
    while second <= seconds {
        let (at, packet) = &next;
        if *at >= second as f64 * 1000.0 {
            let now = start + Duration::from_secs(second);
            let found = judge_stream(&meter.figures(now), &clip.tracks, &IntakeFacts::default());
            for change in checkup.update(now, found) {
                changes.push(match change {
                    FindingChange::Raised(finding) => (second, finding.key.code, true),
                    FindingChange::Cleared(past) => (second, past.finding.key.code, false),
                });
            }
            second += 1;
            continue;
        }
        let is_there = packet.track == TrackId::VIDEO || (clip.has_sound)(is_fault(*at));
        if is_there {
            meter.record(start + Duration::from_secs_f64(at / 1000.0), packet, &clip.tracks);
        }
        next = player.next();
    }
    changes
}

#[test]
fn an_hour_without_a_fault_has_no_finding() {
    for step in [|_: u64, _: bool| 1001.0 / 30.0, |_: u64, _: bool| 40.0, |_: u64, _: bool| 1000.0 / 60.0] {
        let clip = Clip { step, late: |at, _| (at * 7.0) % 23.0, ..Clip::default() };
        assert_eq!(play(&clip, 3600), []);
    }
}

#[rstest]
#[case::variable(Clip { step: |number, fault| if fault { 20.0 + (number * 7 % 41) as f64 } else { 1000.0 / 30.0 }, ..Clip::default() }, FindingCode::FrameRateVaries, 25, 40)]
#[case::skipping(Clip { step: |number, fault| if fault && number % 5 == 0 { 2000.0 / 30.0 } else { 1000.0 / 30.0 }, ..Clip::default() }, FindingCode::PicturesSkipped, 20, 40)]
#[case::rare_keyframes(Clip { picture: |fault| (24_000, if fault { 300 } else { 60 }), ..Clip::default() }, FindingCode::KeyframesRare, 11, 30)]
#[case::collapse(Clip { picture: |fault| (if fault { 7_000 } else { 24_000 }, 60), ..Clip::default() }, FindingCode::BitrateFallen, 12, 25)]
#[case::bursts(Clip { late: |at, fault| if fault { 2000.0 - at % 2000.0 } else { 0.0 }, ..Clip::default() }, FindingCode::ComesInBursts, 25, 40)]
#[case::no_sound(Clip { has_sound: |fault| !fault, ..Clip::default() }, FindingCode::SoundStopped, 10, 6)]
fn a_fault_is_found_in_time_and_cleared(
    #[case] clip: Clip,
    #[case] code: FindingCode,
    #[case] raised_within: u64,
    #[case] cleared_within: u64,
) {
    let changes = play(&clip, 480);
    let [(raised, _, true), (cleared, _, false)] = changes[..] else { panic!("{changes:?}") };
    assert!(changes.iter().all(|(_, found, _)| *found == code), "{changes:?}");
    let (begin, end) = (150, 330);
    assert!((begin..=begin + raised_within).contains(&raised), "{changes:?}");
    assert!((end..=end + cleared_within).contains(&cleared), "{changes:?}");
}

#[test]
fn sound_that_drifts_is_found() {
    // 40 ms a minute, and what it has run away stays.
    let clip = Clip { sound: |since| since * 40.0 / 60_000.0, ..Clip::default() };
    let changes = play(&clip, 320);
    assert_eq!(
        changes.iter().map(|(_, code, on)| (*code, *on)).collect::<Vec<_>>(),
        [(FindingCode::SoundDrifts, true)]
    );
    assert!(changes[0].0 <= 150 + 90, "{changes:?}");
}

#[test]
fn a_clock_that_is_off_is_found() {
    let clip = Clip { late: |at, _| at * 200e-6, ..Clip::default() };
    let changes = play(&clip, 300);
    assert_eq!(
        changes.iter().map(|(_, code, on)| (*code, *on)).collect::<Vec<_>>(),
        [(FindingCode::ClockDrifts, true)]
    );
    assert!(changes[0].0 <= 100, "{changes:?}");
}

#[test]
fn a_stream_without_sound_is_told_for_as_long_as_it_is_so() {
    let clip = Clip { tracks: tracks([(TrackId::VIDEO, h264())]), has_sound: |_| false, ..Clip::default() };
    assert_eq!(play(&clip, 600), [(6, FindingCode::SoundMissing, true)]);
}
