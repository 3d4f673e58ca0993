use bytes::Bytes;
use rstest::rstest;

use super::pair::Pair;
use crate::{
    ClientEvent, ClientPurpose, Greeting, MediaKind, MediaOutput, Refusal, ServerEvent, StreamMetadataBuilder,
    StreamRates, Timestamp,
};

#[rstest]
#[case::byte_by_byte(1, Greeting::Plain)]
#[case::odd_pieces(7, Greeting::DigestFirst)]
#[case::a_segment(1448, Greeting::Plain)]
#[case::all_at_once(usize::MAX, Greeting::DigestSecond)]
fn media_arrives_as_it_was_sent(#[case] cut: usize, #[case] greeting: Greeting) {
    let mut pair = Pair::with(cut, ClientPurpose::Publish, greeting);
    pair.drive();
    assert_eq!(pair.client_events, [ClientEvent::Publishing]);
    let keyframe = Bytes::from((0..200_000u32).map(|n| (n % 253) as u8).collect::<Vec<_>>());
    let sound = Bytes::from_static(b"sound");
    let sent = [(0u32, &keyframe), (33, &sound), (66, &keyframe)];
    for (time, payload) in sent {
        pair.client.send_video(Timestamp(time), &[0x17, 1, 0, 0, 0], payload).unwrap();
        pair.client.send_audio(Timestamp(time + 5), &[0xaf, 1], payload).unwrap();
    }
    pair.drive();
    let expected: Vec<_> = sent
        .iter()
        .flat_map(|(time, payload)| {
            let video = [&[0x17, 1, 0, 0, 0][..], payload].concat();
            let audio = [&[0xaf, 1][..], payload].concat();
            [(MediaKind::Video, *time, Bytes::from(video)), (MediaKind::Audio, time + 5, Bytes::from(audio))]
        })
        .collect();
    assert_eq!(pair.media(), expected);
}

#[test]
fn the_request_holds_what_the_encoder_was_given() {
    let mut pair = Pair::new(1000);
    pair.drive();
    let Some(ServerEvent::PublishRequested(request)) = pair.server_events.first() else { panic!("no request") };
    assert_eq!(request.connect.app, "live");
    assert_eq!(request.name, "k7f2-secret?edge=1");
    assert_eq!(request.connect.tc_url, "rtmp://relay.test/live");
    assert!(request.connect.capabilities.takes(*b"hvc1"));
}

#[test]
fn who_only_asks_shows_no_key() {
    let mut pair = Pair::with(1000, ClientPurpose::Ask, Greeting::Plain);
    assert!(!pair.client.is_let_in());
    pair.drive();
    assert!(pair.client.is_let_in() && !pair.client.is_publishing());
    assert_eq!((pair.client.poll_timeout(), pair.server_events.len()), (None, 0));
    assert!(pair.client.send_audio(Timestamp(0), &[], &Bytes::new()).is_err());
}

#[test]
fn a_refused_publisher_is_told_and_the_server_closes() {
    let mut pair = Pair::new(1000);
    pair.refusal = Some(Refusal { description: "The stream key is not known here.".into() });
    pair.drive();
    let code = "NetStream.Publish.BadName".to_owned();
    let description = "The stream key is not known here.".to_owned();
    assert_eq!(pair.client_events, [ClientEvent::Refused { code, description }]);
    assert!(pair.server.is_closing());
    assert!(pair.client.send_audio(Timestamp(0), &[], &Bytes::new()).is_err());
}

#[test]
fn metadata_arrives() {
    let mut pair = Pair::new(1000);
    pair.drive();
    let metadata = StreamMetadataBuilder::new(&Default::default(), StreamRates::default(), "Regatta van");
    pair.client.send_data(Timestamp(0), &metadata.encode_for_server()).unwrap();
    pair.drive();
    let Some(ServerEvent::Metadata { metadata, .. }) = pair.server_events.last() else { panic!("no metadata") };
    assert_eq!(metadata.encoder.as_deref(), Some("Regatta van"));
}

#[test]
fn an_ended_stream_is_reported_once() {
    let mut pair = Pair::new(1000);
    pair.drive();
    pair.client.close();
    pair.drive();
    let ends = pair.server_events.iter().filter(|event| matches!(event, ServerEvent::PublishEnded { .. })).count();
    assert_eq!(ends, 1, "FCUnpublish and deleteStream both end the stream");
}

#[test]
fn a_server_that_ends_the_stream_is_heard() {
    let mut pair = Pair::new(1000);
    pair.drive();
    pair.server.end_publish(1, "The relay is stopping.");
    pair.drive();
    let Some(ClientEvent::Refused { code, description }) = pair.client_events.last() else { panic!("no end") };
    assert_eq!(code, "NetStream.Unpublish.Success");
    assert_eq!(description, "The relay is stopping.");
}

/// 60 days of one picture an hour: the 32 bits wrap, and the extended timestamp is in use.
#[test]
fn timestamps_pass_the_32_bit_wrap() {
    let mut pair = Pair::new(500);
    pair.drive();
    let payload = Bytes::from(vec![7; 100_000]);
    let hours = 60 * 24;
    for hour in 0..hours {
        let millis = hour * 3_600_000;
        if hour % 24 == 0 {
            pair.client.send_video(Timestamp::from_millis(millis), &[0x17], &payload).unwrap();
        } else {
            pair.client.send_video(Timestamp::from_millis(millis), &[0x17], &Bytes::new()).unwrap();
        }
    }
    pair.drive();
    let mut unwrapper = crate::TimestampUnwrapper::default();
    let times = pair.media().into_iter().map(|(_, timestamp, _)| unwrapper.unwrap(Timestamp(timestamp)));
    assert!(times.eq((0..hours).map(|hour| hour * 3_600_000)));
}
