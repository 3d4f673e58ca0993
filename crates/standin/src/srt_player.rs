use std::net::SocketAddr;
use std::time::{Duration, Instant};

use waverant_container::{TsEvent, TsReader};
use waverant_media::TrackKind;
use waverant_srt::Message;
use waverant_udp::Link;

use crate::encoder::{SrtOptions, srt_config};
use crate::{Mark, MarkKind};

/// Watches a stream over SRT for `length`, or until it ends, and remembers every payload.
///
/// # Errors
/// If the house does not let the player in.
pub async fn watch_over_srt(
    house: SocketAddr,
    stream_id: &str,
    options: &SrtOptions,
    length: Duration,
) -> anyhow::Result<Vec<Mark>> {
    let mut link = Link::call(house, srt_config(options)?, Some(stream_id.to_owned())).await?;
    let mut events = Vec::new();
    let mut reader = TsReader::new();
    // The house may end the show first.
    let take = |message: Message| reader.push(&message.payload, &mut events);
    if link.run_until(Instant::now() + length, take).await.is_ok() {
        link.close().await;
    }
    reader.finish(&mut events);
    Ok(marks(&events))
}

/// Streams of a kind are numbered in the order of the program.
fn marks(events: &[TsEvent]) -> Vec<Mark> {
    let mut pids = Vec::new();
    let mut marks = Vec::new();
    let mut first = None;
    for event in events {
        match event {
            TsEvent::Program(streams) => pids = streams.iter().map(|stream| (stream.pid, stream.kind)).collect(),
            TsEvent::Config { pid, codec } => {
                let kind = match codec.kind() {
                    TrackKind::Video => MarkKind::VideoHeader,
                    TrackKind::Audio => MarkKind::AudioHeader,
                };
                let raw = codec.decoder_config().map(|raw| &raw[..]).unwrap_or_default();
                marks.extend(place_of(&pids, *pid).map(|(_, place)| Mark::new(kind, place, 0, raw)));
            }
            TsEvent::Frame { pid, pts, dts, random_access, payload } => {
                let Some((kind, place)) = place_of(&pids, *pid) else { continue };
                let kind = match kind {
                    TrackKind::Video if *random_access => MarkKind::Keyframe,
                    TrackKind::Video => MarkKind::Picture,
                    TrackKind::Audio => MarkKind::Sound,
                };
                let since = *dts - *first.get_or_insert(*dts);
                let millis = u32::try_from(since.millis()).unwrap_or_default();
                marks.push(Mark::new(kind, place, millis, payload).with_composition((*pts - *dts).millis()));
            }
            _ => {}
        }
    }
    marks
}

fn place_of(pids: &[(u16, TrackKind)], wanted: u16) -> Option<(TrackKind, u8)> {
    let (_, kind) = pids.iter().find(|(pid, _)| *pid == wanted)?;
    let place = pids.iter().filter(|(_, other)| other == kind).position(|(pid, _)| *pid == wanted)?;
    Some((*kind, u8::try_from(place).ok()?))
}
