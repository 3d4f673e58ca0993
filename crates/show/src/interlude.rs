//! The holding picture as players get it while no show is on.

use std::sync::{Arc, Weak};
use std::time::Duration;

use bytes::Bytes;
use tokio::time::sleep;
use tokio_util::sync::CancellationToken;
use waverant_codec::CodecPool;
use waverant_media::{AudioSpecificConfig, CodecParameters, MediaTime, Track, TrackId};
use waverant_relay::{HubLimits, Origin, Slate, SlateChoice, SlateError, SlateSource};

use crate::clock;
use crate::feed::Feed;
use crate::slates::{Likeness, Makers, Prepared};

/// The picture of a channel that had no show yet.
const USUAL_SIZE: (u32, u32) = (1280, 720);

/// AAC LC, 48 kHz, two channels.
///
/// Source: ISO/IEC 14496-3, 1.6.2.1
const USUAL_SOUND: &[u8] = &[0x11, 0x90];

/// Packets that are due within this time go together.
const TICK: Duration = Duration::from_millis(40);

/// How often it is tried again to make a picture.
const RETRY: Duration = Duration::from_secs(10);

/// What stands between two shows of a channel.
#[derive(Clone, Debug)]
pub struct Interlude {
    /// The channel.
    pub channel_id: u64,
    /// What it sends while a session holds.
    pub choice: SlateChoice,
    /// What its last show was like.
    pub last: Option<Likeness>,
}

/// A feed of the holding picture, with silence, for as long as somebody has it: the channel's uploaded slate by its
/// rule, else the built-in one; like the last show if that is possible, so that players need not change over.
pub fn interlude(
    interlude: Interlude,
    (shelf, codec): (Arc<dyn SlateSource>, CodecPool),
    stopping: CancellationToken,
) -> Arc<Feed> {
    let feed = Arc::new(Feed::new(HubLimits::default(), Duration::ZERO, clock::now()));
    let screening = Screening { makers: Makers { shelf, codec }, interlude, feed: Arc::downgrade(&feed) };
    tokio::spawn(async move {
        tokio::select! {
            () = screening.run() => {}
            () = stopping.cancelled() => {}
        }
    });
    feed
}

struct Screening {
    makers: Makers,
    interlude: Interlude,
    /// Not held: it ends with its last reader.
    feed: Weak<Feed>,
}

impl Screening {
    async fn run(self) {
        let began = clock::now();
        while self.feed.strong_count() > 0 {
            let upload = self.makers.shelf.version();
            match self.prepare().await {
                Ok(prepared) => {
                    let start = MediaTime::from_duration(clock::now().saturating_duration_since(began));
                    self.play(&prepared.slate, start, upload).await;
                }
                Err(error) => {
                    tracing::warn!(channel_id = self.interlude.channel_id, %error, "players wait without a picture");
                    sleep(RETRY).await;
                }
            }
        }
    }

    /// Plays until nobody reads any more, or another clip was uploaded.
    async fn play(&self, slate: &Slate, start: MediaTime, upload: u64) {
        let began = clock::now();
        let mut number = 0;
        while self.makers.shelf.version() == upload {
            let Some(feed) = self.feed.upgrade() else { return };
            let now = MediaTime::from_duration(clock::now().saturating_duration_since(began));
            let until = loop {
                let Some(mut packet) = slate.packet(number) else { return };
                if packet.dts > now {
                    break (packet.dts - now).to_duration();
                }
                (packet.dts, packet.pts) = (packet.dts + start, packet.pts + start);
                feed.push(packet, slate.tracks().clone(), Origin::Slate);
                number += 1;
            };
            feed.tell_news();
            drop(feed);
            sleep(until.max(TICK)).await;
        }
    }

    async fn prepare(&self) -> Result<Prepared, SlateError> {
        let Interlude { channel_id, choice, last } = &self.interlude;
        let last = last.as_ref().filter(|last| !last.tracks.is_empty());
        if *choice == SlateChoice::Uploaded {
            // Like the last show, else as it is.
            let tracks = last.map(|last| last.tracks.clone());
            for tracks in [tracks, None] {
                match self.makers.uploaded(*channel_id, tracks).await {
                    Ok(prepared) => return Ok(prepared),
                    Err(error) => tracing::debug!(%error, "the uploaded slate is not what players get"),
                }
            }
        }
        if let Some(Likeness { tracks, frame_rate }) = last
            && let Ok(prepared) = self.makers.holding_picture(tracks, *frame_rate).await
        {
            return Ok(prepared);
        }
        let clip = self.makers.drawn(USUAL_SIZE, None).await?;
        let mut tracks = clip.tracks.clone();
        if let Ok(sound) = AudioSpecificConfig::parse(Bytes::from_static(USUAL_SOUND)) {
            tracks.set(Track::new(TrackId::AUDIO, CodecParameters::Aac(sound)));
        }
        self.makers.holding_picture(&tracks, None).await
    }
}
