//! What is heard and seen of a show: its sound decoded and measured, a keyframe looked at now and then. It is work for
//! `codec`'s threads, within a budget, and never on a packet's way.

mod budget;

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use rustix::time::{ClockId, clock_gettime};
use waverant_codec::{Hand, SoundPiece, StillError, WorkFailed};
use waverant_media::{CodecParameters, MediaTime, Packet, TrackId, TrackKind, Tracks};
use waverant_relay::{Entry, Origin, PictureFigures, PictureMeter, SoundFigures, SoundMeter};

pub use budget::CheckupBudget;

/// A keyframe is looked at this often.
const LOOK_EVERY: MediaTime = MediaTime::from_millis(4_000);

/// A keyframe that is larger is not decoded.
const MAX_KEYFRAME: usize = 16 * 1024 * 1024;

/// If so many frames in a row cannot be decoded, it is said.
const UNREADABLE: u32 = 50;

/// What is known of a show by hearing and seeing.
#[derive(Clone, Debug, Default)]
pub struct Sensed {
    /// Each track of sound: what was measured, or why it is not listened to.
    pub sounds: BTreeMap<TrackId, Result<SoundFigures, String>>,
    /// The first track of pictures: what was seen, or why nothing is; none before a keyframe was looked at.
    pub picture: Option<Result<PictureFigures, String>>,
}

/// Listens to the tracks of a show, and looks at its pictures.
#[derive(Debug, Default)]
pub(crate) struct Senses {
    ears: BTreeMap<TrackId, Ear>,
    eye: PictureMeter,
    looked_at: Option<MediaTime>,
    blind: Option<String>,
}

/// What listens to one track.
#[derive(Debug)]
struct Ear {
    codec: CodecParameters,
    /// Why it does not listen.
    deaf: Option<String>,
    meter: Option<SoundMeter>,
    /// The last frames that were heard, that lead in to the next; none where what comes next does not follow.
    before: Vec<Bytes>,
    /// Frames that were not decoded yet.
    waiting: Vec<(MediaTime, Bytes)>,
    unreadable: u32,
}

impl Ear {
    fn new(codec: &CodecParameters) -> Self {
        let codec = codec.clone();
        Self { codec, deaf: None, meter: None, before: Vec::new(), waiting: Vec::new(), unreadable: 0 }
    }

    /// Decodes and measures what waits.
    fn hear(&mut self, hand: &mut Hand) -> Result<(), WorkFailed> {
        let (times, frames): (Vec<MediaTime>, Vec<Bytes>) = std::mem::take(&mut self.waiting).into_iter().unzip();
        if frames.is_empty() || self.deaf.is_some() {
            return Ok(());
        }
        let pieces = match hand.hear(&self.codec, &self.before, &frames)? {
            Ok(pieces) => pieces,
            Err(reason) => {
                self.deaf = Some(reason);
                return Ok(());
            }
        };
        self.before.extend(frames);
        self.before.drain(..self.before.len().saturating_sub(Hand::lead_in(&self.codec)));
        for (time, piece) in times.into_iter().zip(pieces) {
            self.measure(time, piece);
        }
        Ok(())
    }

    fn measure(&mut self, time: MediaTime, piece: SoundPiece) {
        match piece {
            SoundPiece::Damaged => self.unreadable = self.unreadable.saturating_add(1),
            SoundPiece::LedIn => self.unreadable = 0,
            SoundPiece::Heard { rate, channels, samples } => {
                self.unreadable = 0;
                if self.meter.as_ref().is_none_or(|meter| !meter.is_for(rate, channels)) {
                    self.meter = SoundMeter::new(rate, channels);
                }
                if let Some(meter) = &mut self.meter {
                    meter.push(time, &samples);
                }
            }
        }
    }

    fn figures(&self) -> Result<SoundFigures, String> {
        match &self.deaf {
            Some(reason) => Err(reason.clone()),
            None if self.unreadable >= UNREADABLE => Err("its frames cannot be decoded".to_owned()),
            None => Ok(self.meter.as_ref().map(SoundMeter::figures).unwrap_or_default()),
        }
    }
}

impl Senses {
    /// Those of a show that broke the decoder.
    pub(crate) fn broken() -> Self {
        Self { blind: Some("it broke the decoder, and is left alone for a minute".to_owned()), ..Self::default() }
    }

    /// Takes packets in order; those of the slate are left out. Returns what it took of the processor.
    ///
    /// # Errors
    /// [`WorkFailed`] if they broke the decoder.
    pub(crate) fn take(&mut self, hand: &mut Hand, entries: &[Entry]) -> Result<Duration, WorkFailed> {
        let began = thread_time();
        for entry in entries.iter().filter(|entry| entry.origin != Origin::Slate) {
            let (packet, tracks) = (&entry.packet, &entry.tracks);
            match packet.kind {
                TrackKind::Audio => self.collect(hand, packet, tracks)?,
                TrackKind::Video if packet.random_access => self.look(hand, packet, tracks)?,
                TrackKind::Video => {}
            }
        }
        for ear in self.ears.values_mut() {
            ear.hear(hand)?;
        }
        Ok(thread_time().saturating_sub(began) + hand.take_spent())
    }

    /// What comes next does not follow what was taken last.
    pub(crate) fn cut(&mut self) {
        self.ears.values_mut().for_each(|ear| ear.before.clear());
    }

    /// What is known now, of the tracks that there are.
    pub(crate) fn sensed(&self) -> Sensed {
        let picture = match &self.blind {
            Some(reason) => Some(Err(reason.clone())),
            None => self.eye.figures().map(Ok),
        };
        Sensed { sounds: self.ears.iter().map(|(id, ear)| (*id, ear.figures())).collect(), picture }
    }

    fn collect(&mut self, hand: &mut Hand, packet: &Packet, tracks: &Arc<Tracks>) -> Result<(), WorkFailed> {
        let Some(track) = tracks.get(packet.track) else { return Ok(()) };
        if self.ears.keys().any(|id| tracks.get(*id).is_none()) {
            self.ears.retain(|id, _| tracks.get(*id).is_some());
        }
        let ear = self.ears.entry(track.id).or_insert_with(|| Ear::new(&track.codec));
        if ear.codec != track.codec {
            ear.hear(hand)?;
            *ear = Ear::new(&track.codec);
        }
        ear.waiting.push((packet.dts, packet.payload.clone()));
        Ok(())
    }

    fn look(&mut self, hand: &mut Hand, packet: &Packet, tracks: &Arc<Tracks>) -> Result<(), WorkFailed> {
        let first = tracks.first(TrackKind::Video).filter(|track| track.id == packet.track);
        let is_due = self.looked_at.is_none_or(|last| packet.dts - last >= LOOK_EVERY || packet.dts < last);
        let Some(track) = first.filter(|_| is_due && packet.payload.len() <= MAX_KEYFRAME) else { return Ok(()) };
        self.looked_at = Some(packet.dts);
        self.blind = match hand.glance(&track.codec, &packet.payload) {
            Ok(seen) => {
                self.eye.record(packet.pts, &seen.points);
                None
            }
            Err(StillError::Work(failed)) => return Err(failed),
            Err(error) => Some(error.to_string()),
        };
        Ok(())
    }
}

/// What this thread has had of the processor.
fn thread_time() -> Duration {
    let time = clock_gettime(ClockId::ThreadCPUTime);
    Duration::new(u64::try_from(time.tv_sec).unwrap_or(0), u32::try_from(time.tv_nsec).unwrap_or(0))
}

#[cfg(test)]
mod tests {
    use std::f64::consts::TAU;

    use waverant_media::Track;
    use waverant_media::testing::{ac3, flac, flac_frame, hevc};

    use super::*;

    fn entry(tracks: &Arc<Tracks>, track: TrackId, millis: i64, payload: Vec<u8>, origin: Origin) -> Entry {
        let time = MediaTime::from_millis(millis);
        let packet =
            Packet { track, kind: track.kind(), dts: time, pts: time, random_access: true, payload: payload.into() };
        Entry::new(packet, tracks.clone(), origin)
    }

    /// Samples in a frame of the stream that the header tells.
    const FRAME: i64 = 4096;

    /// A frame of a tone on the left, and nothing on the right.
    fn tone(tracks: &Arc<Tracks>, number: u32, origin: Origin) -> Entry {
        let from = i64::from(number) * FRAME;
        #[expect(clippy::cast_possible_truncation, reason = "half of full scale")]
        let sample = |at: i64| ((TAU * 440.0 * at as f64 / 48_000.0).sin() * 16_384.0) as i16;
        let samples: Vec<[i16; 2]> = (from..from + FRAME).map(|at| [sample(at), 0]).collect();
        entry(tracks, TrackId::AUDIO, from * 1000 / 48_000, flac_frame(number, &samples), origin)
    }

    #[test]
    fn sound_is_heard_and_the_slate_is_not() {
        let tracks = Arc::new(waverant_media::testing::tracks([(TrackId::AUDIO, flac())]));
        let mut senses = Senses::default();
        for number in 0..141 {
            senses
                .take(
                    &mut Hand::default(),
                    &[tone(&tracks, number, Origin::Show), tone(&tracks, number, Origin::Slate)],
                )
                .unwrap();
        }
        let sensed = senses.sensed();
        let heard = sensed.sounds[&TrackId::AUDIO].as_ref().unwrap();
        // The first frame may lack what came before it.
        assert_eq!(heard.heard.as_micros(), 140 * 4096 * 1_000_000 / 48_000, "{heard:?}");
        assert!((heard.peak[0].unwrap() + 6.02).abs() < 0.1, "{heard:?}");
        assert!(heard.quiet_for[1] > Duration::from_secs(11) && heard.quiet_for[0].is_zero(), "{heard:?}");
        assert!(sensed.picture.is_none());
    }

    #[test]
    fn what_cannot_be_decoded_is_not_looked_at() {
        let mut all = waverant_media::testing::tracks([(TrackId::VIDEO, hevc()), (TrackId::AUDIO, ac3())]);
        all.set(Track::new(TrackId(3), flac()));
        let (tracks, mut senses) = (Arc::new(all), Senses::default());
        senses
            .take(
                &mut Hand::default(),
                &[
                    entry(&tracks, TrackId::VIDEO, 0, vec![0; 40], Origin::Show),
                    entry(&tracks, TrackId::AUDIO, 0, vec![0; 40], Origin::Show),
                ],
            )
            .unwrap();
        for number in 0..60 {
            senses
                .take(&mut Hand::default(), &[entry(&tracks, TrackId(3), number * 20, vec![1; 40], Origin::Show)])
                .unwrap();
        }
        let sensed = senses.sensed();
        assert_eq!(sensed.sounds[&TrackId::AUDIO], Err("AC-3 is not listened to here".to_owned()));
        assert_eq!(sensed.sounds[&TrackId(3)], Err("its frames cannot be decoded".to_owned()));
        assert_eq!(sensed.picture, Some(Err("stills are made of H.264, and this is HEVC".to_owned())));
    }
}
