//! What judging a show costs, beside a copy of the same bytes: meters and rules, sound, keyframes.

use std::hint::black_box;
use std::path::Path;
use std::time::{Duration, Instant};

use anyhow::{Context, ensure};
use bytes::Bytes;
use waverant_codec::{Hand, SoundPiece, Workplace};
use waverant_container::Mp4File;
use waverant_media::{MediaTime, Packet, TrackId, TrackKind, Tracks, testing};
use waverant_relay::{Checkup, IntakeFacts, PictureMeter, SoundMeter, StreamMeter, judge_stream};

/// A show of 6 Mbit/s: pictures and sounds of a second, in bytes.
const PICTURES: u32 = 30;
const PICTURE_BYTES: usize = 24_400;
const SOUNDS: u32 = 47;
const SOUND_BYTES: usize = 340;

/// Seconds of it.
const SECONDS: u32 = 1800;

/// Frames of sound that are decoded together in a show: half a second.
const SOUNDS_TOGETHER: usize = 23;

/// The word that makes this program a helper.
pub(crate) const HELPER: &str = "helper";

/// Keyframes are looked at this often in a show.
const LOOK_EVERY: f64 = 4.0;

/// Prints which share of a core a show of 6 Mbit/s takes, by part. The clip has the sound and the pictures.
#[expect(clippy::print_stdout, reason = "the table is the program's output")]
pub(crate) fn measure(clip: &Path) -> anyhow::Result<()> {
    let share = |took: Duration, of: f64| took.as_secs_f64() / of * 100.0;
    let show = f64::from(SECONDS);
    println!("{:<44} {:>12}", "a show of 6 Mbit/s takes of one core", "percent");
    println!("{:<44} {:>12.4}", "a copy of its bytes", share(copy(), show));
    println!("{:<44} {:>12.4}", "meters of packets", share(meters(false), show));
    println!("{:<44} {:>12.4}", "meters, and rules once a second", share(meters(true), show));
    let bytes: Bytes = std::fs::read(clip).with_context(|| format!("clip {}", clip.display()))?.into();
    let file = Mp4File::parse(&bytes)?;
    for (place, workplace) in [("here", Workplace::Here), ("by a helper", Workplace::this_program([HELPER.into()]))] {
        let mut hand = Hand::new(workplace);
        let (took, length) = sound(&mut hand, &file)?;
        println!("{:<44} {:>12.4}", format!("a track of AAC, decoded {place} and measured"), share(took, length));
        let (took, count) = pictures(&mut hand, &file)?;
        let each = took / count;
        let percent = each.as_secs_f64() / LOOK_EVERY * 100.0;
        let text = format!("a keyframe every {LOOK_EVERY} s, {place}, {:.1} ms", each.as_secs_f64() * 1e3);
        println!("{text:<44} {percent:>12.4}");
    }
    Ok(())
}

fn copy() -> Duration {
    let (picture, mut target) = (vec![7u8; PICTURE_BYTES], vec![0u8; PICTURE_BYTES]);
    let began = Instant::now();
    for _ in 0..SECONDS * PICTURES {
        target.copy_from_slice(black_box(&picture));
        black_box(&mut target);
    }
    began.elapsed()
}

fn meters(with_rules: bool) -> Duration {
    let tracks = testing::h264_and_aac();
    let (picture, sound) = (Bytes::from(vec![0; PICTURE_BYTES]), Bytes::from(vec![0; SOUND_BYTES]));
    let start = Instant::now();
    let (mut meter, mut checkup) = (StreamMeter::new(start), Checkup::default());
    let began = Instant::now();
    for second in 0..SECONDS {
        for (track, count, payload) in [(TrackId::VIDEO, PICTURES, &picture), (TrackId::AUDIO, SOUNDS, &sound)] {
            for number in 0..count {
                let at = Duration::from_secs(second.into()) + Duration::from_secs(1) * number / count;
                let time = MediaTime::from_duration(at);
                let random_access = track == TrackId::AUDIO || number == 0;
                let packet =
                    Packet { track, kind: track.kind(), dts: time, pts: time, random_access, payload: payload.clone() };
                meter.record(start + at, &packet, &tracks);
            }
        }
        if with_rules {
            judge(&mut meter, &mut checkup, start + Duration::from_secs(u64::from(second) + 1), &tracks);
        }
    }
    began.elapsed()
}

fn judge(meter: &mut StreamMeter, checkup: &mut Checkup, now: Instant, tracks: &Tracks) {
    let found = judge_stream(&meter.figures(now), tracks, &IntakeFacts::default());
    black_box(checkup.update(now, found));
}

/// How long the first track of sound took, and how long it is.
fn sound(hand: &mut Hand, file: &Mp4File) -> anyhow::Result<(Duration, f64)> {
    let track =
        file.tracks.iter().find(|track| track.codec.as_ref().is_some_and(|codec| codec.kind() == TrackKind::Audio));
    let track = track.context("the clip has no sound")?;
    let codec = track.codec.as_ref().context("its sound is of no known codec")?;
    let mut meter = SoundMeter::new(48_000, 2).context("it is not listened to")?;
    let frames: Vec<Bytes> = track.samples.iter().map(|sample| sample.payload.clone()).collect();
    let began = Instant::now();
    for (number, chunk) in track.samples.chunks(SOUNDS_TOGETHER).enumerate() {
        let at = number * SOUNDS_TOGETHER;
        let before = &frames[at.saturating_sub(Hand::lead_in(codec))..at];
        let pieces = hand.hear(codec, before, &frames[at..at + chunk.len()])?;
        for (sample, piece) in chunk.iter().zip(pieces.map_err(anyhow::Error::msg)?) {
            if let SoundPiece::Heard { rate, channels, samples } = piece {
                ensure!(meter.is_for(rate, channels), "the clip's sound is {rate} Hz with {channels} channels");
                meter.push(sample.dts, &samples);
            }
        }
    }
    let took = began.elapsed();
    Ok((took, meter.figures().heard.as_secs_f64()))
}

/// How long the keyframes took, and how many there are.
fn pictures(hand: &mut Hand, file: &Mp4File) -> anyhow::Result<(Duration, u32)> {
    let track =
        file.tracks.iter().find(|track| track.codec.as_ref().is_some_and(|codec| codec.kind() == TrackKind::Video));
    let track = track.context("the clip has no pictures")?;
    let codec = track.codec.as_ref().context("its pictures are of no known codec")?;
    let (mut meter, mut count) = (PictureMeter::default(), 0);
    let began = Instant::now();
    for sample in track.samples.iter().filter(|sample| sample.sync) {
        meter.record(sample.pts, &hand.glance(codec, &sample.payload)?.points);
        count += 1;
    }
    ensure!(count > 0, "the clip has no keyframe");
    Ok((began.elapsed(), count))
}
