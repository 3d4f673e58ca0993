//! What stands in where there are no pictures: uploaded clips, and the holding picture.

use std::sync::Arc;

use tokio::task::spawn_blocking;
use waverant_codec::{Clip, CodecPool};
use waverant_media::{TrackKind, Tracks};
use waverant_relay::{Slate, SlateError, SlateSource};

/// Frame rate of the holding picture where nobody knows that of the show.
pub(crate) const USUAL_FRAME_RATE: f64 = 30.0;

/// The holding picture stands still: more than this would only cost.
const MOST_FRAME_RATE: f64 = 60.0;

/// What a show is like.
#[derive(Clone, Debug)]
pub struct Likeness {
    /// Its tracks; none if it has not begun.
    pub tracks: Arc<Tracks>,
    /// Pictures per second, if that is known.
    pub frame_rate: Option<f64>,
}

/// A slate that can go on.
pub(crate) struct Prepared {
    pub(crate) slate: Slate,
    /// What it is made of, if that is shared with others: it is forgotten with the last of them.
    _clip: Option<Arc<Clip>>,
}

/// What slates are made of.
#[derive(Clone, Debug)]
pub(crate) struct Makers {
    pub(crate) shelf: Arc<dyn SlateSource>,
    pub(crate) codec: CodecPool,
}

impl Makers {
    /// The clip that was uploaded for a channel; like `tracks` if there are some.
    pub(crate) async fn uploaded(&self, channel_id: u64, tracks: Option<Arc<Tracks>>) -> Result<Prepared, SlateError> {
        let shelf = self.shelf.clone();
        let read = spawn_blocking(move || {
            let slate = shelf.uploaded(channel_id)?;
            tracks.map_or(Ok(slate.clone()), |tracks| slate.fitted(&tracks))
        });
        let slate = read.await.unwrap_or_else(|error| Err(SlateError::Unreadable(error.to_string())))?;
        Ok(Prepared { slate, _clip: None })
    }

    /// The holding picture, like `tracks`.
    pub(crate) async fn holding_picture(
        &self,
        tracks: &Tracks,
        frame_rate: Option<f64>,
    ) -> Result<Prepared, SlateError> {
        let video = tracks.first(TrackKind::Video).ok_or(SlateError::Show("it has no pictures"))?;
        let size = video.codec.picture_size();
        let size = size.ok_or(SlateError::Show("the size of its pictures is not known"))?;
        let clip = self.drawn(size, frame_rate).await?;
        let slate = Slate::new(clip.tracks.clone(), clip.packets.clone(), clip.length)?;
        Ok(Prepared { slate: slate.fitted(tracks)?, _clip: Some(clip) })
    }

    /// The holding picture's clip, without sound.
    pub(crate) async fn drawn(
        &self,
        (width, height): (u32, u32),
        frame_rate: Option<f64>,
    ) -> Result<Arc<Clip>, SlateError> {
        let frame_rate = frame_rate.unwrap_or(USUAL_FRAME_RATE).min(MOST_FRAME_RATE);
        let drawn = self.codec.holding_picture(width, height, frame_rate).await;
        drawn.map_err(|error| SlateError::Picture(error.to_string()))
    }
}
