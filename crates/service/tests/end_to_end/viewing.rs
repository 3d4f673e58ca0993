//! Viewers watch over HTTP: by playlists and pieces, a picture at a time, and as a transport stream.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::Duration;

use serde_json::json;
use waverant_standin::{
    Mark, MarkKind, ViewerOptions, ViewerReport, compare, first_difference, read_take, watch_pictures, watch_playlists,
};

use crate::house::{Ground, House, PATIENCE, clip};

/// A viewer in mid-show has its first piece after this at the latest.
const START_LIMIT_MS: u64 = 1_000;

async fn follow(house: &House<'_>, is_near: bool) -> Vec<ViewerReport> {
    let address = format!("http://{}/watch/finish-line/live/index.m3u8", house.viewing);
    let options = ViewerOptions { address, is_near, length: Duration::from_secs(25) };
    tokio::task::spawn_blocking(move || watch_playlists(&options)).await.unwrap().unwrap()
}

async fn on_air(house: &House<'_>, millis: u64) {
    house.wait_until("on air", |house| house.live()["session"]["video"].is_object()).await;
    tokio::time::sleep(Duration::from_millis(millis)).await;
}

/// True if all of `received` is a run of what was sent, to its end.
fn check_run(sent: &[Mark], received: &[Mark], kind: fn(MarkKind) -> bool) -> usize {
    let of = |marks: &[Mark]| marks.iter().filter(|mark| kind(mark.kind)).map(|mark| mark.digest.clone()).collect();
    let (sent, received): (Vec<String>, Vec<String>) = (of(sent), of(received));
    assert!(!received.is_empty());
    let at = sent.iter().position(|digest| *digest == received[0]).expect("the first was sent");
    assert_eq!(sent[at..], received[..], "from {at} on");
    received.len()
}

#[tokio::test(flavor = "multi_thread")]
async fn viewers_follow_playlists_from_mid_show_to_the_end() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    house.change_channel(json!({"viewing": {"audience": "everybody"}}));
    let viewers = async {
        on_air(&house, 5_000).await;
        tokio::join!(follow(&house, true), follow(&house, false))
    };
    let (sent, (near, plain)) = tokio::join!(house.publish(house.encoder(&key, 14.0)), viewers);
    for tracks in [near, plain] {
        let [pictures, sound] = &tracks[..] else { panic!("{} tracks", tracks.len()) };
        assert!(pictures.is_ended && sound.is_ended);
        assert!(pictures.first_piece_after_ms < START_LIMIT_MS, "{} ms", pictures.first_piece_after_ms);
        assert!(check_run(&sent.sent, &pictures.received, MarkKind::is_picture) > 250);
        assert_eq!(pictures.received[0].kind, MarkKind::Keyframe);
        check_run(&sent.sent, &sound.received, |kind| kind == MarkKind::Sound);
        assert_eq!(pictures.discontinuity_count, 0);
    }
}

/// The encoder is lost and returns: the viewer goes on in the same playlists, and sees the slate between.
#[tokio::test(flavor = "multi_thread")]
async fn viewers_go_on_when_the_encoder_returns() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(20_000);
    house.change_channel(json!({"viewing": {"audience": "everybody"}, "slate": "built_in"}));
    let encoders = async {
        let mut lost = house.encoder(&key, 20.0);
        lost.fault = Some(waverant_standin::EncoderFault::BreakAfter(Duration::from_secs(6)));
        let first = house.publish(lost).await;
        tokio::time::sleep(Duration::from_secs(3)).await;
        let mut again = house.encoder(&key, 6.0);
        again.first_packet = clip().keyframe_from(first.next_packet);
        (first, house.publish(again).await)
    };
    let viewer = async {
        on_air(&house, 2_000).await;
        follow(&house, true).await
    };
    let ((first, second), tracks) = tokio::join!(encoders, viewer);
    let [pictures, sound] = &tracks[..] else { panic!("{} tracks", tracks.len()) };
    assert!(pictures.is_ended && pictures.discontinuity_count >= 1);
    assert_eq!(pictures.discontinuity_count, sound.discontinuity_count);
    let of = |marks: &[Mark]| marks.iter().filter(|mark| mark.kind.is_picture()).cloned().collect::<Vec<_>>();
    let (before, after) = (of(&first.sent), of(&second.sent));
    let is_of = |sent: &[Mark], mark: &Mark| sent.iter().any(|other| other.digest == mark.digest);
    let seen_before = pictures.received.iter().filter(|mark| is_of(&before, mark)).count();
    let seen_after = pictures.received.iter().filter(|mark| is_of(&after, mark)).count();
    assert!(seen_before > 100 && seen_after == after.len(), "{seen_before} and {seen_after} of {}", after.len());
    assert!(pictures.received.len() > seen_before + seen_after, "the slate is shown between");
}

#[tokio::test(flavor = "multi_thread")]
async fn viewers_take_a_picture_at_a_time() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    house.change_channel(json!({"viewing": {"audience": "everybody"}}));
    let viewer = async {
        on_air(&house, 2_000).await;
        watch_pictures(house.viewing, "/watch/finish-line/pictures", Duration::from_secs(20)).await.unwrap()
    };
    let (sent, report) = tokio::join!(house.publish(house.encoder(&key, 8.0)), viewer);
    assert!(report.first_picture_after_ms < START_LIMIT_MS, "{} ms", report.first_picture_after_ms);
    assert!(report.told[0].contains("\"codec\":\"avc1."), "{}", report.told[0]);
    assert!(check_run(&sent.sent, &report.received, MarkKind::is_picture) > 120);
    check_run(&sent.sent, &report.received, |kind| kind == MarkKind::Sound);
    assert_eq!(report.goodbye.as_deref(), Some("the show is over"));
}

#[tokio::test(flavor = "multi_thread")]
async fn players_take_continuous_streams() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    house.change_channel(json!({"viewing": {"audience": "everybody"}}));
    let viewing = house.viewing;
    let take = |name: &'static str| {
        tokio::task::spawn_blocking(move || {
            let mut answer = ureq::get(format!("http://{viewing}/watch/finish-line/{name}")).call().unwrap();
            let mut bytes = Vec::new();
            answer.body_mut().as_reader().read_to_end(&mut bytes).unwrap();
            (answer.headers()["content-type"].to_str().unwrap().to_owned(), bytes)
        })
    };
    let players = async {
        on_air(&house, 1_000).await;
        let (ts, flv) = tokio::join!(take("stream.ts?shows=one"), take("stream.flv?shows=one"));
        (ts.unwrap(), flv.unwrap())
    };
    let (sent, ((ts_type, ts), (flv_type, flv))) = tokio::join!(house.publish(house.encoder(&key, 6.0)), players);
    assert_eq!((ts_type.as_str(), ts.len() % 188, flv_type.as_str()), ("video/mp2t", 0, "video/x-flv"));
    let received = waverant_standin::read_transport_stream(&ts).unwrap();
    assert!(received.iter().filter(|mark| mark.kind.is_picture()).count() > 100);
    assert_eq!(first_difference(&sent.sent, &received), None);
    let received = waverant_standin::read_flv(&flv).unwrap();
    let kinds: Vec<MarkKind> = received.iter().map(|mark| mark.kind).take(3).collect();
    assert_eq!(kinds, [MarkKind::VideoHeader, MarkKind::AudioHeader, MarkKind::Keyframe]);
    assert!(received.iter().filter(|mark| mark.kind.is_picture()).count() > 100);
    assert_eq!(compare(&sent.sent, &received, true).fault, None);
}

/// Who may not watch sees nothing, not even that there is a channel; and a channel that is closed is closed at once.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_not_open_is_not_there() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let agent: ureq::Agent = ureq::Agent::config_builder().http_status_as_error(false).build().into();
    let get = |path: &str| {
        let mut answer = agent.get(format!("http://{}{path}", house.viewing)).call().unwrap();
        (answer.status().as_u16(), answer.body_mut().read_to_string().unwrap_or_default())
    };
    let closed = get("/watch/finish-line/live/index.m3u8");
    assert_eq!(closed, get("/watch/nobody-knows/live/index.m3u8"));
    assert_eq!(closed.0, 404);
    house.change_channel(json!({"viewing": {"audience": "everybody"}}));
    assert_eq!(get("/watch/finish-line/live/index.m3u8").1, "The channel is not on air now.");
    let show = house.publish(house.encoder(&key, 8.0));
    let strangers = async {
        on_air(&house, 2_500).await;
        let (status, playlist) = get("/watch/finish-line/live/index.m3u8");
        assert_eq!(status, 200, "{playlist}");
        let media = playlist.lines().last().unwrap().strip_suffix("index.m3u8").unwrap().to_owned();
        let place = format!("/watch/finish-line/live/{media}");
        for (path, expected) in [
            ("index.m3u8?_HLS_part=0", 400),
            ("index.m3u8?_HLS_msn=100000", 400),
            ("index.m3u8?_HLS_msn=-1", 400),
            ("100000.m4s", 404),
            ("0-999.m4s", 404),
            ("head-99.mp4", 404),
            ("..%2f..%2f..%2fetc%2fpasswd", 404),
            ("../1/../../../../channels", 404),
            ("head-0.mp4", 200),
        ] {
            assert_eq!(get(&format!("{place}{path}")).0, expected, "{path}");
        }
        assert_eq!(get("/watch/finish-line/live/12345/0/0.m4s").0, 404, "a piece of another run");
        let plain = format!("http://{}{place}index.m3u8", house.viewing);
        let answer = agent.get(&plain).header("accept-encoding", "gzip").call().unwrap();
        assert_eq!(answer.headers()["content-encoding"], "gzip");
        let tag = answer.headers()["etag"].clone();
        let statuses =
            (0..5).map(|_| agent.get(&plain).header("if-none-match", &tag).call().unwrap().status().as_u16());
        assert!(statuses.into_iter().all(|status| status == 304 || status == 200));
        assert_eq!(get("/api/v1/channels").0, 404, "the API is not here");
        // A page at another port of this host is of the same site: its browser would send our cookie along.
        let mut foreign = TcpStream::connect(house.http).unwrap();
        let upgrade = "Connection: Upgrade\r\nUpgrade: websocket\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==";
        write!(foreign, "GET /api/v1/channels/finish-line/pictures HTTP/1.1\r\nHost: a:7800\r\nOrigin: http://a:7850\r\n{upgrade}\r\n\r\n").unwrap();
        let mut answer = [0; 12];
        foreign.read_exact(&mut answer).unwrap();
        assert_eq!(&answer, b"HTTP/1.1 403");
        let watching = watch_pictures(house.viewing, "/watch/finish-line/pictures", Duration::from_secs(20));
        let closing = async {
            tokio::time::sleep(Duration::from_millis(700)).await;
            house.change_channel(json!({"viewing": {"audience": "nobody"}}));
            assert_eq!(get("/watch/finish-line/live/index.m3u8").0, 404);
            assert_eq!(get(&format!("{place}head-0.mp4")).0, 404);
        };
        let (report, ()) = tokio::join!(watching, closing);
        assert_eq!(report.unwrap().goodbye.as_deref(), Some("this is not to be watched any more"));
    };
    tokio::join!(show, strangers);
}

/// Viewers that never read, ten thousand requests for what is not there, and good viewers: neither the platform nor
/// the recording notices, and the service keeps no memory for them.
#[tokio::test(flavor = "multi_thread")]
async fn a_crowd_of_viewers_disturbs_nobody() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    house.change_channel(json!({"viewing": {"audience": "everybody"}}));
    let platform = house.add_platform("plovio", None).await;
    let crowd = async {
        on_air(&house, 2_500).await;
        let viewing = house.viewing;
        let silent: Vec<TcpStream> = (0..60)
            .map(|number| {
                let paths = ["stream.ts", "pictures", "live/index.m3u8"];
                let upgrade = "Connection: Upgrade\r\nUpgrade: websocket\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\n";
                let mut stream = TcpStream::connect(viewing).unwrap();
                let path = paths[number % 3];
                write!(stream, "GET /watch/finish-line/{path} HTTP/1.1\r\nHost: a\r\n{upgrade}\r\n").unwrap();
                stream
            })
            .collect();
        let misses = tokio::task::spawn_blocking(move || {
            let agent: ureq::Agent = ureq::Agent::config_builder().http_status_as_error(false).build().into();
            let status = |number: u32| {
                let address = format!("http://{viewing}/watch/finish-line/live/1/0/{number}-{number}.m4s");
                agent.get(address).call().unwrap().status().as_u16()
            };
            (0..10_000).filter(|number| status(*number) == 404).count()
        });
        let (near, misses) = tokio::join!(follow(&house, true), misses);
        drop(silent);
        (near, misses.unwrap(), house.anonymous_kib())
    };
    let (sent, (near, misses, memory)) = tokio::join!(house.publish(house.encoder(&key, 14.0)), crowd);
    assert_eq!(misses, 10_000);
    check_run(&sent.sent, &near[0].received, MarkKind::is_picture);
    assert!(memory < 96 * 1024, "{memory} KiB");
    assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    let connection = &platform.report().connections[0];
    let found = compare(&sent.sent, &connection.received, true);
    assert_eq!((found.fault, found.first_picture), (None, Some(0)));
    let take = house.ended_session(1).await["takes"][0].clone();
    let (marks, _) = read_take(&ground.path("recordings").join(take["path"].as_str().unwrap())).unwrap();
    assert_eq!(compare(&sent.sent, &marks, true).fault, None);
}

/// A window that is longer than memory: what is old lies on the disk, and comes out as it went in.
#[tokio::test(flavor = "multi_thread")]
async fn one_can_go_back_to_what_lies_on_the_disk() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    house.change_channel(json!({"viewing": {"audience": "everybody", "back_ms": 600_000}}));
    let too_far = json!({"viewing": {"back_ms": 14_400_001}});
    assert_eq!(house.try_call("PATCH", "/channels/finish-line", Some(too_far)).0, 422);
    let viewer = async {
        on_air(&house, 56_000).await;
        let (viewing, path) = (house.viewing, ground.path("back.mp4"));
        tokio::task::spawn_blocking(move || go_back(viewing, &path)).await.unwrap();
    };
    let (sent, ()) = tokio::join!(house.publish(house.encoder(&key, 64.0)), viewer);
    let (marks, _) = read_take(&ground.path("back.mp4")).unwrap();
    let pictures: Vec<&Mark> = marks.iter().filter(|mark| mark.kind.is_picture()).collect();
    assert!(pictures.len() > 1_000, "{} pictures", pictures.len());
    assert_eq!(first_difference(&sent.sent, &marks), None);
    assert_eq!(
        Some(&pictures[0].digest),
        sent.sent.iter().find(|mark| mark.kind.is_picture()).map(|mark| &mark.digest)
    );
}

/// Fetches all pictures that the playlist tells, from the first on.
fn go_back(viewing: std::net::SocketAddr, into: &std::path::Path) {
    let agent: ureq::Agent = ureq::Agent::config_builder().http_status_as_error(false).build().into();
    let get = |name: &str, range: Option<&str>| {
        let request = agent.get(format!("http://{viewing}/watch/finish-line/live/{name}"));
        let request = if let Some(range) = range { request.header("range", range) } else { request };
        let mut answer = request.call().unwrap();
        (answer.status().as_u16(), answer.body_mut().read_to_vec().unwrap())
    };
    let text = |name: &str| String::from_utf8(get(name, None).1).unwrap();
    let multivariant = text("index.m3u8");
    let folder = multivariant.lines().last().unwrap().trim_end_matches("index.m3u8").to_owned();
    let playlist = text(&format!("{folder}index.m3u8"));
    assert!(playlist.contains("#EXT-X-MEDIA-SEQUENCE:0\n"), "{playlist}");
    let oldest = format!("{folder}0.m4s");
    let ((status, whole), (partial, part)) = (get(&oldest, None), get(&oldest, Some("bytes=100-199")));
    assert_eq!((status, partial, part.as_slice()), (200, 206, &whole[100..200]));
    assert_eq!(get(&oldest, Some("bytes=99999999-")).0, 416);
    assert_eq!(get(&format!("{folder}0-0.m4s"), None).0, 404, "parts are for who is near");
    let names = playlist.lines().filter(|line| line.ends_with(".m4s"));
    let segments = names.map(|name| get(&format!("{folder}{name}"), None).1);
    let file: Vec<u8> =
        std::iter::once(get(&format!("{folder}head-0.mp4"), None).1).chain(segments).flatten().collect();
    std::fs::write(into, file).unwrap();
}

/// A channel that is always ready has its whole window for the first viewer; a manifest names what there is; and a
/// rehearsal is for nobody outside.
#[tokio::test(flavor = "multi_thread")]
async fn segments_are_ready_before_somebody_watches_and_a_rehearsal_is_not_shown() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    house.change_channel(json!({"viewing": {"audience": "everybody", "is_always_ready": true, "back_ms": 60_000}}));
    let agent: ureq::Agent = ureq::Agent::config_builder().http_status_as_error(false).build().into();
    let get = |path: &str| {
        let mut answer = agent.get(format!("http://{}/watch/finish-line/{path}", house.viewing)).call().unwrap();
        (answer.status().as_u16(), answer.body_mut().read_to_string().unwrap_or_default())
    };
    let viewer = async {
        on_air(&house, 13_000).await;
        let (_, multivariant) = get("live/index.m3u8");
        let (_, playlist) = get(&format!("live/{}", multivariant.lines().last().unwrap()));
        assert!(playlist.contains("#EXT-X-MEDIA-SEQUENCE:0\n"), "{playlist}");
        let told = playlist.lines().filter(|line| line.starts_with("#EXTINF")).count();
        assert!(told >= 5, "{told} segments\n{playlist}");
        let (_, manifest) = get("live/index.mpd");
        let part = |name: &str| manifest.split(&format!("{name}=\"")).nth(1).unwrap().split('"').next().unwrap();
        assert_eq!(manifest.matches("<AdaptationSet").count(), 2, "{manifest}");
        let piece = part("media").replace("$Number$", part("startNumber"));
        let piece = agent.get(format!("http://{}/watch/finish-line/live/{piece}", house.viewing)).call().unwrap();
        assert_eq!((piece.status().as_u16(), &piece.headers()["content-type"]), (200, &"video/mp4".parse().unwrap()));
    };
    tokio::join!(house.publish(house.encoder(&key, 16.0)), viewer);
    house.ended_session(1).await;
    house.call("POST", "/channels/finish-line/rehearsals", Some(json!({"seconds": 5})));
    on_air(&house, 1_500).await;
    assert_eq!(get("still.jpg"), (404, "The channel is not on air now.".to_owned()));
    assert!(get("state").1.contains("\"off_air\""));
}
