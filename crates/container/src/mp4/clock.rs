//! Sample times on a track's own clock.

use waverant_media::MediaTime;

/// Audio timestamps that are off the sample count by no more than this are taken for rounding
/// (RTMP counts milliseconds) and follow the sample count.
const AUDIO_TOLERANCE: MediaTime = MediaTime::from_millis(20);

/// Puts samples on a track's clock: sound by its sample count, and nothing before what came first.
#[derive(Clone, Debug)]
pub(crate) struct SampleClock {
    pub(crate) timescale: u32,
    /// Where the sample count says that the next audio frame begins.
    pub(super) expected: Option<i64>,
    /// No sample may begin before this: the last sample's time, or the end of the last fragment.
    pub(super) earliest: i64,
}

impl SampleClock {
    pub(crate) fn new(timescale: u32) -> Self {
        Self { timescale, expected: None, earliest: 0 }
    }

    /// Makes the next sample's own time count, not where the sample count has come to.
    pub(crate) fn forget_count(&mut self) {
        self.expected = None;
    }

    /// Lets no sample begin before `end`.
    pub(crate) fn keep_behind(&mut self, end: i64) {
        self.earliest = self.earliest.max(end);
    }

    /// The decode time of a sample that should be decoded `at`; `frame_length` is known for sound.
    pub(crate) fn place(&mut self, at: MediaTime, frame_length: Option<i64>) -> i64 {
        let mut decode_time = at.in_timescale(self.timescale);
        if let Some(expected) = self.expected
            && decode_time.saturating_sub(expected).saturating_abs() <= AUDIO_TOLERANCE.in_timescale(self.timescale)
        {
            decode_time = expected;
        }
        // Sound whose timestamps run slower than its samples would be set back here.
        decode_time = decode_time.max(self.earliest);
        self.earliest = decode_time;
        if let Some(frame_length) = frame_length {
            self.expected = Some(decode_time.saturating_add(frame_length));
        }
        decode_time
    }
}
