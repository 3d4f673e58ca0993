//! Our server plays to our client.

use bytes::Bytes;

use super::pair::Pair;
use crate::{
    ClientEvent, ClientPurpose, Error, Greeting, MediaKind, MediaOutput, Refusal, ServerEvent, StreamMetadataBuilder,
    StreamRates, Timestamp,
};

fn playing() -> Pair {
    let mut pair = Pair::with(700, ClientPurpose::Play, Greeting::Plain);
    pair.drive();
    assert_eq!(pair.client_events, [ClientEvent::Playing]);
    pair.client_events.clear();
    pair
}

fn media(pair: &Pair) -> Vec<(MediaKind, u32, usize)> {
    let media = pair.client_events.iter().filter_map(|event| match event {
        ClientEvent::Media { kind, timestamp, body } => Some((*kind, timestamp.0, body.len())),
        _ => None,
    });
    media.collect()
}

#[test]
fn a_player_gets_metadata_and_media() {
    let mut pair = playing();
    let payload = Bytes::from(vec![7; 100_000]);
    let metadata =
        StreamMetadataBuilder::new(&Default::default(), StreamRates::default(), "Waverant").encode_for_player();
    let mut player = pair.server.player(1).unwrap();
    assert!(player.is_player() && player.capabilities().takes(*b"hvc1"));
    player.send_data(Timestamp(0), &metadata).unwrap();
    player.send_video(Timestamp(0), &[0x17, 1, 0, 0, 0], &payload).unwrap();
    player.send_audio(Timestamp(5), &[0xaf, 1], &payload).unwrap();
    pair.drive();
    assert!(
        matches!(&pair.client_events[0], ClientEvent::Metadata(told) if told.encoder.as_deref() == Some("Waverant"))
    );
    assert_eq!(media(&pair), [(MediaKind::Video, 0, 100_005), (MediaKind::Audio, 5, 100_002)]);
}

#[test]
fn pausing_stops_the_way_to_the_player_and_resuming_opens_it() {
    let mut pair = playing();
    pair.client.pause(true).unwrap();
    pair.drive();
    assert_eq!(pair.server_events.last(), Some(&ServerEvent::PlayPaused { stream: 1 }));
    assert!(pair.server.player(1).is_none());
    pair.client.pause(true).unwrap();
    pair.client.pause(false).unwrap();
    pair.drive();
    let paused = pair.server_events.iter().filter(|event| **event == ServerEvent::PlayPaused { stream: 1 }).count();
    assert_eq!(paused, 1, "a second pause is none");
    assert_eq!(pair.server_events.last(), Some(&ServerEvent::PlayResumed { stream: 1 }));
    assert!(pair.server.player(1).is_some());
}

#[test]
fn the_end_of_the_show_is_told_and_the_server_closes() {
    let mut pair = playing();
    pair.server.end_play(1, "The show is over.");
    pair.drive();
    let code = "NetStream.Play.UnpublishNotify".to_owned();
    assert_eq!(pair.client_events, [ClientEvent::Refused { code, description: "The show is over.".into() }]);
    assert!(pair.server.is_closing());
}

#[test]
fn a_player_that_leaves_is_noticed() {
    let mut pair = playing();
    pair.client.close();
    pair.drive();
    assert_eq!(pair.server_events.last(), Some(&ServerEvent::PlayEnded { stream: 1 }));
    assert!(pair.server.player(1).is_none());
}

#[test]
fn a_refused_player_is_told_why() {
    let mut pair = Pair::with(1000, ClientPurpose::Play, Greeting::Plain);
    pair.refusal = Some(Refusal { description: "This channel is not on air.".into() });
    pair.drive();
    let code = "NetStream.Play.StreamNotFound".to_owned();
    assert_eq!(pair.client_events, [ClientEvent::Refused { code, description: "This channel is not on air.".into() }]);
    assert!(pair.server.is_closing());
}

/// A player says nothing for hours; it must not be taken for a lost publisher.
#[test]
fn a_silent_player_does_not_time_out() {
    let mut pair = playing();
    assert_eq!(pair.server.poll_timeout(), None);
    assert_eq!(pair.pass(std::time::Duration::from_secs(86_400)), Ok(()));
}

#[test]
fn a_player_cannot_publish_and_a_publisher_cannot_pause() {
    let mut player = playing();
    assert!(matches!(player.client.send_video(Timestamp(0), &[], &Bytes::new()), Err(Error::Misuse(_))));
    let mut publisher = Pair::new(1000);
    publisher.drive();
    assert!(matches!(publisher.client.pause(true), Err(Error::Misuse(_))));
    assert!(publisher.server.player(1).is_none());
}
