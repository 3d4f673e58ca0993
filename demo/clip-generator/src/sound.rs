//! The tune: a slow round of soft bells, the left and right channel a little apart; and the tone.

use std::f32::consts::TAU;

use anyhow::ensure;
use bytes::Bytes;
use fdk_aac::enc::{AudioObjectType, BitRate, ChannelMode, Encoder, EncoderParams, Transport};
use waverant_media::{AudioSpecificConfig, MediaTime, Packet, TrackId, TrackKind};

const RATE: u32 = 48_000;
const FRAME: usize = 1024;

/// AAC frames in the clip: 32/3 s.
const FRAMES: usize = 500;

/// The encoder's priming, in frames: what comes out belongs to what went in so much earlier.
const PRIMING: usize = 2;

/// Notes of the round in Hz, one every third of a second.
const NOTES: [f32; 16] = [
    293.66, 369.99, 440.0, 587.33, 493.88, 440.0, 369.99, 440.0, 329.63, 392.0, 493.88, 659.25, 587.33, 493.88, 440.0,
    369.99,
];

/// AAC frames of the tone: 8 s.
const TONE_FRAMES: usize = 375;

/// The tone's pitch in Hz, a whole number of periods in every length of whole milliseconds.
const TONE: f32 = 1000.0;

/// -20 dB of full scale.
const TONE_LEVEL: f32 = 0.1;

/// The tune of the demo clip.
pub fn encode_tune() -> anyhow::Result<(AudioSpecificConfig, Vec<Packet>)> {
    encode(&round(), 128_000, FRAMES)
}

/// The tone of the test picture.
pub fn encode_tone() -> anyhow::Result<(AudioSpecificConfig, Vec<Packet>)> {
    let wave = (0..TONE_FRAMES * FRAME).map(|n| (TAU * TONE * (n % 48) as f32 / RATE as f32).sin());
    let samples: Vec<i16> = wave.flat_map(|level| [(level * TONE_LEVEL * f32::from(i16::MAX)) as i16; 2]).collect();
    encode(&samples, 64_000, TONE_FRAMES)
}

/// Encodes three rounds and keeps the middle one, so that its ends meet.
fn encode(samples: &[i16], bits: u32, frame_count: usize) -> anyhow::Result<(AudioSpecificConfig, Vec<Packet>)> {
    let encoder = Encoder::new(EncoderParams {
        bit_rate: BitRate::Cbr(bits),
        sample_rate: RATE,
        transport: Transport::Raw,
        channels: ChannelMode::Stereo,
        audio_object_type: AudioObjectType::Mpeg4LowComplexity,
    })
    .map_err(|error| anyhow::anyhow!("AAC encoder: {error:?}"))?;
    let info = encoder.info().map_err(|error| anyhow::anyhow!("AAC encoder: {error:?}"))?;
    let config = Bytes::copy_from_slice(&info.confBuf[..info.confSize as usize]);
    let mut frames = Vec::new();
    for _ in 0..3 {
        for frame in samples.chunks(FRAME * 2) {
            let mut out = vec![0; 8192];
            let done = encoder.encode(frame, &mut out).map_err(|error| anyhow::anyhow!("AAC encoder: {error:?}"))?;
            out.truncate(done.output_size);
            if done.output_size > 0 {
                frames.push(Bytes::from(out));
            }
        }
    }
    ensure!(frames.len() >= 2 * frame_count + PRIMING, "only {} AAC frames came out", frames.len());
    let middle = frames.into_iter().skip(frame_count + PRIMING).take(frame_count);
    let packets = middle.enumerate().map(|(number, payload)| {
        let time = MediaTime::from_ticks(i64::try_from(number * FRAME).unwrap_or(0) * 90_000 / i64::from(RATE));
        let (track, kind) = (TrackId::AUDIO, TrackKind::Audio);
        Packet { track, kind, dts: time, pts: time, random_access: true, payload }
    });
    Ok((AudioSpecificConfig::parse(config)?, packets.collect()))
}

/// One round, interleaved. Bells that ring on at the end ring into the beginning.
fn round() -> Vec<i16> {
    let length = FRAMES * FRAME;
    let mut mix = vec![[0f32; 2]; length];
    let step = length / 32;
    for beat in 0..32 {
        let pitch = NOTES[beat % 16] * if beat >= 16 && beat % 4 == 0 { 0.5 } else { 1.0 };
        let pan = 0.5 + 0.3 * (beat as f32 * 0.9).sin();
        for n in 0..step * 6 {
            let time = n as f32 / RATE as f32;
            let envelope = (time * 60.0).min(1.0) * (-time * 2.6).exp();
            let tone = (TAU * pitch * time).sin() + 0.35 * (TAU * pitch * 2.01 * time).sin() * (-time * 4.0).exp();
            let place = &mut mix[(beat * step + n) % length];
            place[0] += tone * envelope * (1.0 - pan);
            place[1] += tone * envelope * pan;
        }
    }
    mix.iter().flatten().map(|sample| (sample * 0.28 * f32::from(i16::MAX)).clamp(-32000.0, 32000.0) as i16).collect()
}
