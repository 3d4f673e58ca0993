//! Rehearsals: a session fed by the built-in test picture.

mod sink;

use std::sync::Arc;
use std::time::Duration;

use time::OffsetDateTime;
use tokio::sync::OnceCell;
use tokio::task::spawn_blocking;
use tokio::time::{Instant, sleep_until};
use waverant_media::{MediaTime, Packet, Tracks};
use waverant_picture::{Clip, test_picture};
use waverant_store::{Destination, DestinationSettings, Secret, Sending};

use crate::house::{ChannelRules, House, LegOrder};
use crate::show::Seat;
use sink::Sink;

/// The test picture: what most platforms take.
const WIDTH: u32 = 1280;
const HEIGHT: u32 = 720;
const FRAME_RATE: f64 = 30.0;
const KEYFRAME_SECONDS: f64 = 2.0;

/// Packets that are due within this time go together.
const TICK: Duration = Duration::from_millis(10);

/// Begins a rehearsal of `length`; returns the number of its session.
///
/// # Errors
/// Why there is none, in words.
pub(crate) async fn begin(
    house: &Arc<House>,
    rules: &ChannelRules,
    mut legs: Vec<LegOrder>,
    length: Duration,
) -> Result<u64, String> {
    let clip = test_clip().await?;
    let sink = if legs.is_empty() {
        let sink = Sink::open().await.map_err(|error| format!("the built-in sink cannot listen: {error}"))?;
        legs.push(order_to(&sink));
        Some(sink)
    } else {
        None
    };
    let (show, seat) = house.rehearse(rules, legs).ok_or("a session is on air")?;
    let id = show.id;
    let over = show.over.clone();
    drop(show);
    house.tasks.spawn(async move {
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
async fn test_clip() -> Result<Arc<Clip>, String> {
    static CLIP: OnceCell<Arc<Clip>> = OnceCell::const_new();
    let make = || async {
        let made = spawn_blocking(|| test_picture(WIDTH, HEIGHT, FRAME_RATE, KEYFRAME_SECONDS)).await;
        let clip = made.map_err(|error| error.to_string())?.map_err(|error| error.to_string())?;
        Ok(Arc::new(clip))
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
    let destination = Destination {
        id: u64::MAX,
        name: "built-in sink".to_owned(),
        settings: DestinationSettings {
            address: format!("rtmp://{}/in", sink.address()),
            batch_ms: 20,
            ..DestinationSettings::default()
        },
        key: Secret::new("rehearsal"),
        created_at: OffsetDateTime::now_utc(),
    };
    LegOrder::new(destination, Sending { switched_on: true, ..Sending::default() })
}
