//! Streams of known truth, on a clock of the test's own.
#![expect(clippy::disallowed_methods, reason = "one start instant is taken, then only added to")]

use bytes::Bytes;
use rstest::rstest;
use waverant_media::TrackId;
use waverant_media::testing::{h264_and_aac, hevc, tracks};

use super::*;

/// An encoder that is made to do one thing wrong.
#[derive(Clone)]
struct Encoder {
    frame_ms: f64,
    keyframe_every: usize,
    /// Added to when a packet of this time in ms arrives, in ms.
    late: fn(f64) -> f64,
    /// The time that a frame of sound bears, of its true one in ms.
    sound_time: fn(f64) -> f64,
    /// When a frame of sound arrives beyond its true time in ms.
    sound_late: fn(f64) -> f64,
}

impl Default for Encoder {
    fn default() -> Self {
        let nothing: fn(f64) -> f64 = |_| 0.0;
        Self { frame_ms: 1000.0 / 30.0, keyframe_every: 60, late: nothing, sound_time: |at| at, sound_late: nothing }
    }
}

fn packet(track: TrackId, dts: f64, pts: f64, is_start: bool, size: usize) -> Packet {
    // Rounded to milliseconds, as RTMP has them.
    let time = |millis: f64| {
        MediaTime::from_millis(Duration::from_secs_f64((millis + 0.5) / 1000.0).as_millis().try_into().unwrap())
    };
    Packet {
        track,
        kind: track.kind(),
        dts: time(dts),
        pts: time(pts),
        random_access: is_start,
        payload: Bytes::from(vec![0; size]),
    }
}

impl Encoder {
    fn run(&self, seconds: f64) -> StreamFigures {
        let start = Instant::now();
        let mut meter = StreamMeter::new(start);
        let mut packets = Vec::new();
        let mut number = 0;
        while number as f64 * self.frame_ms < seconds * 1000.0 {
            let at = number as f64 * self.frame_ms;
            let is_key = number % self.keyframe_every == 0;
            let size = if is_key { 120_000 } else { 15_000 };
            packets.push((at + (self.late)(at), packet(TrackId::VIDEO, at, at, is_key, size)));
            number += 1;
        }
        let frame = 1024.0 / 48.0;
        let sounds = (0..).map(|number| f64::from(number) * frame);
        for at in sounds.take_while(|at| *at < seconds * 1000.0) {
            let sound = packet(TrackId::AUDIO, (self.sound_time)(at), (self.sound_time)(at), true, 340);
            packets.push((at + (self.late)(at) + (self.sound_late)(at), sound));
        }
        packets.sort_by(|one, other| one.0.total_cmp(&other.0));
        let tracks = h264_and_aac();
        let wall = |millis: f64| start + Duration::from_secs_f64(millis.max(0.0) / 1000.0);
        for (at, packet) in &packets {
            meter.record(wall(*at), packet, &tracks);
        }
        meter.figures(wall(packets.last().unwrap().0))
    }
}

#[test]
fn a_clean_stream_reads_clean() {
    let found = Encoder::default().run(130.0);
    let expected = (59.0 * 15_000.0 + 120_000.0 + 94.0 * 340.0) * 4.0;
    assert!((found.rate_10s_bps - expected).abs() < expected * 0.03, "{} of {expected}", found.rate_10s_bps);
    let cadence = found.cadence.unwrap();
    assert!((cadence.rate - 30.0).abs() < 0.01 && cadence.uneven_share == 0.0, "{cadence:?}");
    assert_eq!(found.groups.spacing, Some(MediaTime::from_millis(2000)));
    assert_eq!((found.groups.pictures, found.groups.reordered_run, found.groups.is_open), (60, 0, false));
    assert!((found.groups.bitrate_bps - (59.0 * 15_000.0 + 120_000.0) * 4.0).abs() < 1.0, "{:?}", found.groups);
    assert!(found.arrival.jitter_ms < 0.5, "{:?}", found.arrival);
    assert_eq!((found.arrival.longest_pause, found.arrival.largest_burst), (Duration::ZERO, Duration::ZERO));
    assert!(found.arrival.clock_ppm.is_none_or(|ppm| ppm.abs() < 10.0), "{:?}", found.arrival);
    assert_eq!(found.fallen_from_bps, None);
    let pace = found.track(TrackId::AUDIO).unwrap().pace;
    assert!(pace.sample_drift.is_none_or(|drift| drift.abs() < 1.0), "{pace:?}");
    assert!(pace.picture_drift.is_none_or(|drift| drift.abs() < 3.0), "{pace:?}");
}

#[rstest]
#[case::fast(200.0)]
#[case::slow(-200.0)]
fn an_encoder_clock_is_measured(#[case] ppm: f64) {
    let late = if ppm > 0.0 { |at: f64| at * -200e-6 + 5.0 } else { |at: f64| at * 200e-6 };
    let found = Encoder { late, ..Encoder::default() }.run(130.0).arrival.clock_ppm.unwrap();
    assert!((found - ppm).abs() < 10.0, "{found}");
}

#[test]
fn a_sound_card_that_runs_slow_is_measured() {
    let found = Encoder { sound_time: |at| at * (1.0 + 40.0 / 60_000.0), ..Encoder::default() }.run(130.0);
    let pace = found.track(TrackId::AUDIO).unwrap().pace;
    assert!((pace.sample_drift.unwrap() - 40.0).abs() < 1.0, "{pace:?}");
}

#[test]
fn sound_that_comes_later_and_later_is_measured() {
    let found = Encoder { sound_late: |at| at * 40.0 / 60_000.0, ..Encoder::default() }.run(130.0);
    let pace = found.track(TrackId::AUDIO).unwrap().pace;
    assert!((pace.picture_drift.unwrap() - 40.0).abs() < 3.0, "{pace:?}");
    assert!(pace.behind_pictures.unwrap() > 40.0, "{pace:?}");
}

#[test]
fn lost_frames_of_sound_are_no_drift() {
    let start = Instant::now();
    let (mut meter, tracks) = (StreamMeter::new(start), h264_and_aac());
    for number in (0..6000).filter(|number| number % 50 != 7) {
        let at = f64::from(number) * 1024.0 / 48.0;
        meter.record(start + Duration::from_secs_f64(at / 1000.0), &packet(TrackId::AUDIO, at, at, true, 340), &tracks);
    }
    let pace = meter.figures(start + Duration::from_secs(128)).track(TrackId::AUDIO).unwrap().pace;
    assert!(pace.sample_drift.is_none_or(|drift| drift.abs() < 1.0), "{pace:?}");
}

#[test]
fn pauses_and_bursts_are_measured() {
    // What two seconds have comes at once.
    let found = Encoder { late: |at| 2000.0 - at % 2000.0, ..Encoder::default() }.run(61.0);
    assert!(found.arrival.longest_pause.as_millis() > 1900, "{:?}", found.arrival);
    assert!(found.arrival.largest_burst.as_millis() > 1900, "{:?}", found.arrival);
    assert!(found.arrival.jitter_ms > 20.0, "{:?}", found.arrival);
}

#[test]
fn groups_are_taken_apart() {
    let (start, tracks) = (Instant::now(), tracks([(TrackId::VIDEO, hevc())]));
    let run = |unit: u8| {
        let mut meter = StreamMeter::new(start);
        // Of five pictures, the one sent first is shown third.
        for number in 0..100u32 {
            let dts = f64::from(number) * 40.0;
            let shown = number - number % 5 + [2, 0, 1, 4, 3][number as usize % 5];
            let pts = 80.0 + f64::from(shown) * 40.0;
            let mut packet = packet(TrackId::VIDEO, dts, pts, number % 25 == 0, 0);
            packet.payload = Bytes::copy_from_slice(&[0, 0, 0, 3, unit << 1, 1, 0x80]);
            meter.record(start, &packet, &tracks);
        }
        meter.figures(start).groups
    };
    let (open, closed) = (run(9), run(7));
    assert!(open.is_open && !closed.is_open, "skipped leading pictures need the group before, decodable ones do not");
    assert_eq!((open.pictures, open.reordered_run), (25, 2), "{open:?}");
    assert!(open.reordered_share > 0.3, "{open:?}");
    assert_eq!(open.spacing, Some(MediaTime::from_millis(1000)));
    assert_eq!(open.open_length, Some(MediaTime::from_millis(24 * 40)));
}
