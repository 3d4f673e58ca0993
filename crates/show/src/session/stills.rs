use std::time::{Duration, Instant};

use bytes::Bytes;
use thiserror::Error;
use waverant_codec::{CodecPool, Hand, StillError, WorkFailed};
use waverant_media::MediaTime;
use waverant_relay::{Cursor, Entry};

use super::Show;
use crate::clock;
use crate::feed::FeedReader;

/// How wide stills can be had, in pixels.
pub const STILL_WIDTHS: [u32; 4] = [160, 320, 640, 1280];

/// A still is good for so long, however often it is asked for and keyframes come.
const GOOD_FOR: Duration = Duration::from_secs(2);

/// Pictures that broke the decoder are left alone for so long.
const SPARED: Duration = Duration::from_secs(60);

/// The newest keyframe is wanted, however long ago it came.
const ALLOWANCE: MediaTime = MediaTime::from_millis(600_000);

/// A keyframe that is larger is not decoded.
const MAX_KEYFRAME: usize = 16 * 1024 * 1024;

/// What decoding a picture may take of memory.
const PICTURE_BYTES: u64 = 96 * 1024 * 1024;

/// Why there is no still.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum NoStill {
    /// No picture was sent lately.
    #[error("no picture was sent lately")]
    NoPicture,
    /// It cannot be made of this stream.
    #[error(transparent)]
    Picture(#[from] StillError),
    /// The work broke off.
    #[error(transparent)]
    Work(#[from] WorkFailed),
}

/// The newest still of a show.
#[derive(Debug, Default)]
pub(super) struct Stills(tokio::sync::Mutex<Option<Made>>);

#[derive(Debug)]
struct Made {
    at: Instant,
    of: MediaTime,
    /// One for each of [`STILL_WIDTHS`], or why there is none.
    jpegs: Result<[Bytes; STILL_WIDTHS.len()], NoStill>,
}

impl Made {
    fn good_for(&self) -> Duration {
        match self.jpegs {
            Err(NoStill::Picture(StillError::Work(_))) => SPARED,
            _ => GOOD_FOR,
        }
    }
}

impl Show {
    /// The newest keyframe as JPEG, of the smallest of [`STILL_WIDTHS`] that is at least `width`. It is decoded once for
    /// all who ask, and not more often than every two seconds.
    ///
    /// # Errors
    /// [`NoStill`].
    pub async fn still(&self, codec: &CodecPool, width: u32) -> Result<Bytes, NoStill> {
        let place = STILL_WIDTHS.iter().position(|known| *known >= width).unwrap_or(STILL_WIDTHS.len() - 1);
        // Who asks meanwhile waits for the same still.
        let mut made = self.stills.0.lock().await;
        let is_good =
            made.as_ref().is_some_and(|made| clock::now().saturating_duration_since(made.at) < made.good_for());
        if !is_good {
            let newest = self.newest_keyframe().ok_or(NoStill::NoPicture)?;
            let of = newest.packet.pts;
            match made.as_mut().filter(|made| made.of == of) {
                Some(made) => made.at = clock::now(),
                None => {
                    let jpegs = codec.run(PICTURE_BYTES, move |hand| decoded(hand, &newest)).await?;
                    *made = Some(Made { at: clock::now(), of, jpegs });
                }
            }
        }
        let made = made.as_ref().ok_or(NoStill::NoPicture)?;
        Ok(made.jpegs.as_ref().map_err(NoStill::clone)?[place].clone())
    }

    fn newest_keyframe(&self) -> Option<Entry> {
        let mut reader = FeedReader::new(self.live().clone(), Cursor::new(ALLOWANCE), 1);
        reader.take();
        reader.drain().next().filter(|entry| entry.packet.is_keyframe())
    }
}

fn decoded(hand: &mut Hand, keyframe: &Entry) -> Result<[Bytes; STILL_WIDTHS.len()], NoStill> {
    let (packet, track) = (&keyframe.packet, keyframe.tracks.get(keyframe.packet.track));
    let track = track.filter(|_| packet.payload.len() <= MAX_KEYFRAME).ok_or(NoStill::NoPicture)?;
    let widths = STILL_WIDTHS.iter().rev().map(|width| *width as usize).collect();
    let jpegs = hand.jpegs(&track.codec, packet.payload.clone(), widths)?;
    let mut found = [const { Bytes::new() }; STILL_WIDTHS.len()];
    found.iter_mut().rev().zip(jpegs).for_each(|(place, jpeg)| *place = jpeg);
    Ok(found)
}
