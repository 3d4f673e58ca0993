use std::time::{Duration, Instant};

use bytes::{BufMut, Bytes, BytesMut};

/// Pictures per second.
const FRAME_RATE: u32 = 30;

/// Pictures from one keyframe to the next.
const GROUP: u32 = 60;

/// Bytes per picture: 6 Mbit/s.
const FRAME_BYTES: usize = 25_000;

/// Where the send time stands in a picture, behind NAL unit length and header.
const STAMP_AT: usize = 5;

/// Pictures with their send time in them.
pub(crate) struct Source {
    began: Instant,
    number: u32,
}

impl Source {
    pub(crate) fn new() -> Self {
        Self { began: Instant::now(), number: 0 }
    }

    /// Makes stamps count from another source's begin.
    pub(crate) fn since(self, began: Instant) -> Self {
        Self { began, ..self }
    }

    /// The time from which stamps count.
    pub(crate) fn began(&self) -> Instant {
        self.began
    }

    /// Waits until the next picture is due; returns it with its number of milliseconds and
    /// whether it is a keyframe.
    pub(crate) async fn next(&mut self) -> (u32, bool, Bytes) {
        let due = Duration::from_secs(1) * self.number / FRAME_RATE;
        tokio::time::sleep_until((self.began + due).into()).await;
        let keyframe = self.number.is_multiple_of(GROUP);
        let mut picture = BytesMut::with_capacity(FRAME_BYTES);
        picture.put_u32(u32::try_from(FRAME_BYTES - 4).unwrap_or(0));
        picture.put_u8(if keyframe { 0x65 } else { 0x41 });
        picture.put_u64(stamp(self.began));
        picture.put_u64(self.number.into());
        picture.resize(FRAME_BYTES, 0x55);
        let millis = self.number * 1000 / FRAME_RATE;
        self.number += 1;
        (millis, keyframe, picture.freeze())
    }
}

fn stamp(began: Instant) -> u64 {
    u64::try_from(began.elapsed().as_micros()).unwrap_or(u64::MAX)
}

/// How long ago a picture was sent, in milliseconds.
pub(crate) fn age(picture: &[u8], began: Instant) -> Option<f64> {
    let sent = picture.get(STAMP_AT..STAMP_AT + 8)?.try_into().ok().map(u64::from_be_bytes)?;
    Some(stamp(began).saturating_sub(sent) as f64 / 1000.0)
}

/// The place of a picture in its stream.
pub(crate) fn number(picture: &[u8]) -> Option<u64> {
    picture.get(STAMP_AT + 8..STAMP_AT + 16)?.try_into().ok().map(u64::from_be_bytes)
}
