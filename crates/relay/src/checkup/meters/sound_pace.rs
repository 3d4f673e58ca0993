use std::time::Duration;

use waverant_media::{CodecParameters, Packet};

use super::arrival::millis;
use super::trend::Trend;

/// A frame that is further from its place than this share of its length follows a gap.
const GAP: f64 = 0.75;

/// What is told per second is shown per minute.
const SECONDS: f64 = 60.0;

/// Sound beside its own samples, and beside the pictures.
#[derive(Clone, Debug, Default)]
pub(super) struct SoundPace {
    /// Where the next frame belongs by the samples so far, in ms.
    expected: Option<f64>,
    /// How far the newest frame was from its place, in ms.
    off: f64,
    beside_samples: Trend,
    beside_pictures: Trend,
}

/// How a track of sound keeps pace.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct PaceFigures {
    /// How much the times of frames grow beyond what their samples last, in milliseconds per minute: the encoder's
    /// sound card runs slow where it is positive. None while it cannot be told, and while it is nothing. Error: 1.
    pub sample_drift: Option<f64>,
    /// How much later than pictures of the same time the sound arrives, in milliseconds; negative if it comes first.
    /// Error: a picture.
    pub behind_pictures: Option<f64>,
    /// How much that grows, in milliseconds per minute. Error: 3 where the line is steady.
    pub picture_drift: Option<f64>,
}

impl SoundPace {
    /// Takes the next frame, which arrived at `at`; `late` is how far it is behind the wall, in ms, and
    /// `pictures_late` how far the newest picture was.
    pub(super) fn record(
        &mut self,
        packet: &Packet,
        codec: &CodecParameters,
        (at, late, pictures_late): (Duration, f64, Option<f64>),
    ) {
        if let Some(pictures_late) = pictures_late {
            self.beside_pictures.record(at, late - pictures_late);
        }
        let (Some(sound), Some(samples)) = (codec.sound(), codec.samples_in(&packet.payload)) else { return };
        if sound.sample_rate == 0 || samples == 0 {
            return;
        }
        let length = f64::from(samples) * 1000.0 / f64::from(sound.sample_rate);
        let time = millis(packet.dts);
        let place = self.expected.unwrap_or(time);
        let off = time - place;
        // Frames that were lost are no drift: what follows is in its place again. What is off grows slowly.
        if (off - self.off).abs() > length * GAP {
            self.expected = Some(time - self.off + length);
            return;
        }
        self.expected = Some(place + length);
        self.off = off;
        self.beside_samples.record(at, off);
    }

    pub(super) fn figures(&self) -> PaceFigures {
        PaceFigures {
            sample_drift: self.beside_samples.growth().map(|growth| growth * SECONDS),
            behind_pictures: self.beside_pictures.newest(),
            picture_drift: self.beside_pictures.growth().map(|growth| growth * SECONDS),
        }
    }
}
