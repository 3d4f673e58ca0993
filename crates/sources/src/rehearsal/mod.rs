//! Rehearsals: a session fed by the built-in test picture.

mod sink;

use std::sync::Arc;
use std::time::Duration;

use thiserror::Error;
use tokio::sync::OnceCell;
use tokio::time::{Instant, sleep_until};
use waverant_codec::{Clip, CodecPool, EncodeError, Hand, WorkFailed};
use waverant_house::{ChannelBusy, House};
use waverant_media::{MediaTime, Packet, Tracks};
use waverant_relay::{Actor, ChannelRules, LegDestination, LegOrder, Secret};
use waverant_show::Seat;

use sink::Sink;

/// The test picture: what most platforms take.
const WIDTH: u32 = 1280;
const HEIGHT: u32 = 720;
const FRAME_RATE: f64 = 30.0;
const KEYFRAME_SECONDS: f64 = 2.0;

/// How long packets to the sink are collected.
const BATCH: Duration = Duration::from_millis(20);

/// Packets that are due within this time go together.
const TICK: Duration = Duration::from_millis(10);

/// What the test picture takes of memory while it is made: its backdrop, a picture, and what the encoder keeps.
const PICTURE_BYTES: u64 = 32 * 1024 * 1024;

/// Why a rehearsal cannot begin.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum RehearsalError {
    /// Somebody publishes.
    #[error("a session is on air")]
    Busy,
    /// The built-in sink gets no port.
    #[error("the built-in sink cannot listen: {0}")]
    Sink(#[from] std::io::Error),
    /// The test picture cannot be made.
    #[error(transparent)]
    Picture(#[from] EncodeError),
    /// The test picture cannot be made by a fault of ours.
    #[error(transparent)]
    Work(#[from] WorkFailed),
}

impl From<ChannelBusy> for RehearsalError {
    fn from(_: ChannelBusy) -> Self {
        Self::Busy
    }
}

/// Begins a rehearsal of `length` with these legs, or with one to the built-in sink if there are none; returns the
/// number of its session.
///
/// # Errors
/// [`RehearsalError`].
pub async fn rehearse(
    house: &Arc<House>,
    rules: &Arc<ChannelRules>,
    mut orders: Vec<LegOrder>,
    length: Duration,
    by: &Actor,
) -> Result<u64, RehearsalError> {
    let clip = test_clip(house.codec()).await?;
    let mut sink = None;
    if orders.is_empty() {
        let opened = Sink::open().await?;
        orders.push(order_to(&opened));
        sink = Some(opened);
    }
    let (show, seat) = house.rehearse(rules, orders)?;
    let (id, over) = (show.id(), show.live().over().clone());
    tracing::info!(session = id, channel = %rules.name, %by, "a rehearsal begins");
    drop(show);
    house.tasks().spawn(async move {
        tokio::select! {
            () = feed(&seat, &clip, length) => {}
            () = seat.evicted() => {}
        }
        seat.end("the rehearsal is done");
        // The sink takes the last packets.
        over.cancelled().await;
        if let Some(sink) = sink {
            sink.close().await;
        }
    });
    Ok(id)
}

/// The test picture is drawn and encoded once; that takes some seconds.
async fn test_clip(codec: &CodecPool) -> Result<Arc<Clip>, RehearsalError> {
    static CLIP: OnceCell<Arc<Clip>> = OnceCell::const_new();
    let make = || async {
        let draw = |hand: &mut Hand| hand.test_picture(WIDTH, HEIGHT, FRAME_RATE, KEYFRAME_SECONDS);
        Ok(Arc::new(codec.run(PICTURE_BYTES, draw).await??))
    };
    CLIP.get_or_try_init(make).await.cloned()
}

/// Plays the clip over and over, each packet when it is due.
async fn feed(seat: &Seat, clip: &Clip, length: Duration) {
    let tracks: Arc<Tracks> = Arc::new(clip.tracks.clone());
    let began = Instant::now();
    let mut turn = MediaTime::ZERO;
    loop {
        let mut rest = clip.packets.as_slice();
        while let Some(first) = rest.first() {
            let due = began + (first.dts + turn).to_duration();
            if due > began + length {
                return;
            }
            sleep_until(due).await;
            let until = MediaTime::from_duration(began.elapsed() + TICK) - turn;
            let count = rest.iter().take_while(|packet| packet.dts <= until).count().max(1);
            let (now, later) = rest.split_at(count);
            let shifted =
                now.iter().map(|packet| Packet { dts: packet.dts + turn, pts: packet.pts + turn, ..packet.clone() });
            seat.packets(shifted, &tracks);
            rest = later;
        }
        turn = turn + clip.length;
    }
}

fn order_to(sink: &Sink) -> LegOrder {
    let destination = LegDestination {
        id: u64::MAX,
        name: "built-in sink".to_owned(),
        address: format!("rtmp://{}/in", sink.address()),
        authority: None,
        key: Secret::new("rehearsal"),
        srt_latency: Duration::ZERO,
        passphrase: None,
    };
    LegOrder::at_once(destination, BATCH)
}
