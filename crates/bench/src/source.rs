use std::time::{Duration, Instant};

use bytes::{BufMut, Bytes, BytesMut};

/// Pictures per second.
const FRAME_RATE: u32 = 30;

/// Pictures from one keyframe to the next.
const GROUP: u32 = 60;

/// Of a source, unless it is said, in kilobits per second.
pub(crate) const USUAL_KBPS: usize = 6_000;

/// Where the send time stands in a picture, behind NAL unit length and header.
const STAMP_AT: usize = 5;

/// Bytes of a number in a picture.
const MARKED: usize = 10;

/// Pictures with their send time in them.
pub(crate) struct Source {
    began: Instant,
    number: u32,
    /// Bytes per picture.
    picture_bytes: usize,
}

impl Source {
    pub(crate) fn new() -> Self {
        Self::of(USUAL_KBPS)
    }

    /// Pictures of so many kilobits per second together.
    pub(crate) fn of(kbps: usize) -> Self {
        Self { began: Instant::now(), number: 0, picture_bytes: kbps * 1000 / 8 / FRAME_RATE as usize }
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
        let mut picture = BytesMut::with_capacity(self.picture_bytes);
        picture.put_u32(u32::try_from(self.picture_bytes - 4).unwrap_or(0));
        picture.put_u8(if keyframe { 0x65 } else { 0x41 });
        put_marked(&mut picture, stamp(self.began));
        put_marked(&mut picture, self.number.into());
        picture.resize(self.picture_bytes, 0x55);
        let millis = self.number * 1000 / FRAME_RATE;
        self.number += 1;
        (millis, keyframe, picture.freeze())
    }
}

fn stamp(began: Instant) -> u64 {
    u64::try_from(began.elapsed().as_micros()).unwrap_or(u64::MAX)
}

/// Seven bits a byte, none of which is zero: nothing in a picture may look like a start code.
fn put_marked(picture: &mut BytesMut, value: u64) {
    picture.extend((0..MARKED).map(|place| 0x80 | (value >> (7 * place)).to_le_bytes()[0]));
}

fn marked(bytes: &[u8]) -> u64 {
    bytes.iter().rev().fold(0, |value, byte| value << 7 | u64::from(byte & 0x7f))
}

/// How long ago a picture was sent, in milliseconds.
pub(crate) fn age(picture: &[u8], began: Instant) -> Option<f64> {
    let sent = picture.get(STAMP_AT..STAMP_AT + MARKED).map(marked)?;
    Some(stamp(began).saturating_sub(sent) as f64 / 1000.0)
}

/// The place of a picture in its stream.
pub(crate) fn number(picture: &[u8]) -> Option<u64> {
    picture.get(STAMP_AT + MARKED..STAMP_AT + 2 * MARKED).map(marked)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn pictures_say_when_they_were_sent_and_which_they_are() {
        let mut source = Source::new();
        for expected in 0..3 {
            let (_, _, picture) = source.next().await;
            assert_eq!(number(&picture), Some(expected));
            assert!(age(&picture, source.began()).is_some_and(|age| age < 5000.0));
            assert!(!picture[STAMP_AT..].contains(&0), "it looks like a start code");
        }
    }
}
