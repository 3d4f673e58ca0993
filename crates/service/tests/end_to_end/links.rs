//! Watching by link, and how many may watch.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::Duration;

use serde_json::{Value, json};
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;
use waverant_standin::{EncoderEnd, watch_pictures};

use crate::house::{Ground, House};
use crate::play::{options, watch};

const SITE: &str = "https://club.example";

/// A caller that says what it is, and which headers it sends.
struct Player<'a> {
    house: &'a House<'a>,
    agent: ureq::Agent,
    headers: Vec<(&'static str, String)>,
}

struct Answer {
    status: u16,
    text: String,
    headers: ureq::http::HeaderMap,
}

impl Answer {
    fn header(&self, name: &str) -> &str {
        self.headers.get(name).and_then(|value| value.to_str().ok()).unwrap_or_default()
    }
}

impl<'a> Player<'a> {
    fn new(house: &'a House<'a>, name: &str) -> Self {
        let agent = ureq::Agent::config_builder().http_status_as_error(false).user_agent(name).build().into();
        Self { house, agent, headers: Vec::new() }
    }

    fn with(mut self, name: &'static str, value: impl ToString) -> Self {
        self.headers.push((name, value.to_string()));
        self
    }

    fn get(&self, path: &str) -> Answer {
        let request = self.agent.get(format!("http://{}{path}", self.house.viewing));
        let request = self.headers.iter().fold(request, |request, (name, value)| request.header(*name, value));
        let mut answer = request.call().unwrap();
        let (status, headers) = (answer.status().as_u16(), answer.headers().clone());
        // What goes on for ever is not read.
        let is_endless = headers.get("content-type").is_some_and(|kind| kind == "video/mp2t");
        let text = if is_endless { String::new() } else { answer.body_mut().read_to_string().unwrap_or_default() };
        Answer { status, text, headers }
    }

    fn status(&self, path: &str) -> u16 {
        self.get(path).status
    }
}

fn make_link(house: &House<'_>, form: Value) -> (u64, String) {
    let link = house.call("POST", "/channels/finish-line/links", Some(form));
    let page = link["addresses"]["page"].as_str().unwrap();
    let path = page.split_once("/link/").unwrap().1;
    (link["id"].as_u64().unwrap(), format!("/link/{path}"))
}

async fn on_air(house: &House<'_>) {
    house.wait_until("on air", |house| house.live()["session"]["video"].is_object()).await;
    // The first segment is whole: a call here holds up the encoder of the same test.
    tokio::time::sleep(Duration::from_millis(2500)).await;
}

fn viewers(house: &House<'_>, way: &str) -> u64 {
    house.live()["viewers"][way].as_u64().unwrap()
}

/// A link opens its channel for watching, in every way, until it ends or is revoked, and opens nothing else.
#[tokio::test(flavor = "multi_thread")]
async fn a_link_opens_its_channel_until_it_ends_or_is_revoked() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    house.change_channel(json!({"viewing": {"audience": "by_link"}}));
    let (id, link) = make_link(&house, json!({"label": "club"}));
    let ends_at = (OffsetDateTime::now_utc() + Duration::from_secs(8)).format(&Rfc3339).unwrap();
    let (_, short) = make_link(&house, json!({"label": "short", "ends_at": ends_at}));
    let show = house.publish(house.encoder(&key, 14.0));
    let viewer = async {
        on_air(&house).await;
        let player = Player::new(&house, "player");
        assert_eq!(player.status("/watch/finish-line/live/index.m3u8"), 404, "without a link it is not there");
        let playlist = player.get(&format!("{link}/live/index.m3u8"));
        assert_eq!(
            (playlist.status, playlist.header("cache-control")),
            (200, "private, no-store"),
            "{}",
            playlist.text
        );
        let media = format!("{link}/live/{}", playlist.text.lines().last().unwrap());
        assert_eq!(player.get(&media).header("cache-control"), "private, no-store");
        let head = media.replace("index.m3u8", "head-0.mp4");
        assert_eq!(player.get(&head).header("cache-control"), "private, no-store");
        for way in ["", "/state", "/embed", "/stream.ts", "/live/index.mpd", "/still.jpg?width=160"] {
            assert_eq!(player.status(&format!("{link}{way}")), 200, "{way}");
        }
        // Others than the right one look like none, and the publisher's side knows it not.
        let token = link.rsplit('/').next().unwrap();
        let forged = [format!("{token}x"), token.replace(&format!("{id}-"), &format!("{}-", id + 1)), "1-".to_owned()];
        for token in forged {
            assert_eq!(player.status(&format!("/link/{token}/live/index.m3u8")), 404, "{token}");
        }
        assert!(matches!(house.publish(house.encoder(token, 1.0)).await.end, EncoderEnd::Refused { .. }));
        assert!(!ground.log().contains(token), "a link stands in no log");
        let by_short =
            watch_pictures(house.viewing, &format!("{short}/pictures"), Duration::from_secs(20)).await.unwrap();
        assert_eq!(by_short.goodbye.as_deref(), Some("this is not to be watched any more"));
        assert_eq!(player.status(&format!("{short}/live/index.m3u8")), 410);
        let page = Player::new(&house, "browser").with("accept", "text/html").get(&short);
        assert!(page.status == 410 && page.text.contains("<h1>This link has ended."), "{}", page.text);
        let watching = format!("{link}/pictures");
        let watching = watch_pictures(house.viewing, &watching, Duration::from_secs(20));
        let revoking = async {
            tokio::time::sleep(Duration::from_millis(600)).await;
            assert_eq!(viewers(&house, "pictures"), 1);
            house.call("DELETE", &format!("/channels/finish-line/links/{id}"), None);
            assert_eq!(player.status(&media), 404);
            assert_eq!(player.status(&head), 404);
        };
        let (report, ()) = tokio::join!(watching, revoking);
        assert_eq!(report.unwrap().goodbye.as_deref(), Some("this is not to be watched any more"));
    };
    let (sent, ()) = tokio::join!(show, viewer);
    assert!(sent.sent.len() > 300);
}

/// A link that is bound to a site plays on that site's pages: not on others, and in no player that says nothing.
#[tokio::test(flavor = "multi_thread")]
async fn a_link_bound_to_a_site_plays_there_alone() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    house.change_channel(json!({"viewing": {"audience": "by_link"}}));
    let (_, link) = make_link(&house, json!({"label": "site", "sites": [SITE]}));
    let show = house.publish(house.encoder(&key, 5.0));
    let viewer = async {
        on_air(&house).await;
        let playlist = format!("{link}/live/index.m3u8");
        let player = |name: &'static str, value: &str| Player::new(&house, "browser").with(name, value);
        for (name, value, expected) in [
            ("origin", SITE, 200),
            ("referer", "https://club.example/regatta?x=1", 200),
            ("origin", "https://evil.example", 403),
            ("referer", "https://club.example.evil.example/", 403),
            ("origin", "null", 403),
            ("x-nothing", "", 403),
            ("sec-fetch-site", "same-origin", 200),
            ("sec-fetch-site", "cross-site", 403),
        ] {
            assert_eq!(player(name, value).status(&playlist), expected, "{name}: {value}");
        }
        // What our own page fetches, as a browser asks that does not say more over plain HTTP.
        let own = format!("http://{}{link}/embed", house.viewing);
        assert_eq!(player("referer", &own).status(&playlist), 200);
        let embed = player("referer", SITE).get(&format!("{link}/embed"));
        let policy = embed.header("content-security-policy");
        assert!(policy.ends_with(&format!("frame-ancestors {SITE}")), "{policy}");
        assert_eq!(embed.header("referrer-policy"), "same-origin");
        let page = player("referer", SITE).get(&link);
        assert!(page.header("content-security-policy").ends_with("frame-ancestors 'none'"));
        let right = player("origin", SITE).get(&playlist);
        assert_eq!((right.header("access-control-allow-origin"), right.header("vary")), (SITE, "origin"));
        assert_eq!(player("referer", SITE).get(&playlist).header("access-control-allow-origin"), "");
        let open = make_link(&house, json!({"label": "anywhere"})).1;
        assert_eq!(Player::new(&house, "x").get(&format!("{open}/state")).header("access-control-allow-origin"), "*");
    };
    tokio::join!(show, viewer);
    for (form, field) in [
        (json!({"label": ""}), "label"),
        (json!({"label": "a", "sites": ["club.example"]}), "sites"),
        (json!({"label": "a", "sites": vec![SITE; 17]}), "sites"),
        (json!({"label": "a", "ends_at": "2020-01-01T00:00:00Z"}), "ends_at"),
        (json!({"label": "a", "most_viewers": 100_001}), "most_viewers"),
    ] {
        let (status, problem) = house.try_call("POST", "/channels/finish-line/links", Some(form));
        assert!(status == 422 && problem["detail"].as_str().unwrap().starts_with(field), "{problem}");
    }
}

/// As many watch by a link, and a channel, as are to; who watches already is not touched by who comes.
#[tokio::test(flavor = "multi_thread")]
async fn no_more_watch_than_there_are_seats() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    house.change_channel(json!({"viewing": {"audience": "everybody", "most_viewers": 3}}));
    let (id, link) = make_link(&house, json!({"label": "two", "most_viewers": 2}));
    let show = house.publish(house.encoder(&key, 12.0));
    let crowd = async {
        on_air(&house).await;
        let playlist = |name: &str, path: &str| Player::new(&house, name).get(&format!("{path}/live/index.m3u8"));
        let open = "/watch/finish-line";
        for (name, path, expected) in [
            ("one", link.as_str(), 200),
            ("two", &link, 200),
            ("one", &link, 200),
            ("three", &link, 503),
            ("four", open, 200),
            ("five", open, 503),
            ("four", open, 200),
        ] {
            assert_eq!(playlist(name, path).status, expected, "{name}");
        }
        let full = playlist("five", open);
        assert!(full.text.contains("as many watch this channel as it takes"), "{}", full.text);
        assert_eq!(full.header("retry-after"), "15");
        assert!(Player::new(&house, "five").get(&format!("{open}/state")).text.contains("\"has_seat\":false"));
        assert_eq!(Player::new(&house, "five").status(&format!("{open}/stream.ts")), 503);
        assert_eq!((viewers(&house, "segments"), viewers(&house, "total")), (3, 3));
        let links = house.get("/channels/finish-line/links");
        assert_eq!((&links[0]["id"], &links[0]["viewer_count"]), (&json!(id), &json!(2)));
        // By key too; the reason is told.
        let viewing = house.make_viewing_key();
        let (_, away) = watch(options(&house, &viewing, 5.0)).await.ended.unwrap();
        assert!(away.contains("as many watch this channel as it takes"), "{away}");
        // The same device by another way takes its own seat.
        let mut stream = TcpStream::connect(house.viewing).unwrap();
        write!(stream, "GET {open}/stream.ts HTTP/1.1\r\nHost: {}\r\nUser-Agent: four\r\n\r\n", house.viewing).unwrap();
        let mut line = [0; 15];
        stream.read_exact(&mut line).unwrap();
        assert_eq!(&line, b"HTTP/1.1 200 OK");
        assert_eq!(playlist("five", open).status, 503);
        assert_eq!((viewers(&house, "segments"), viewers(&house, "stream")), (2, 1));
    };
    tokio::join!(show, crowd);
    house.ended_session(1).await;
    let mut house = house;
    house.signal("-TERM");
    assert_eq!(house.wait_for_exit(), Some(0));
    let house = ground.start();
    let minutes = house.get("/channels/finish-line/viewers?hours=1");
    let most = minutes.as_array().unwrap().iter().map(|minute| minute["viewers"]["segments"].as_u64().unwrap()).max();
    assert_eq!(most, Some(3), "{minutes}");
    assert_eq!(house.try_call("GET", "/channels/finish-line/viewers?hours=0", None).0, 422);
}

/// The uplink is for the platforms first: viewers are refused before a leg suffers, and told why.
#[tokio::test(flavor = "multi_thread")]
async fn platforms_come_before_viewers_on_the_uplink() {
    let ground = Ground::new().await;
    // The clip has less than a megabit per second: a platform and some viewers, and no more.
    ground.write_settings("[limits]\nuplink_kbps = 5000\n");
    let house = ground.start();
    let key = house.make_channel(0);
    house.change_channel(json!({"viewing": {"audience": "everybody"}}));
    let platform = house.add_platform("plovio", None).await;
    let show = house.publish(house.encoder(&key, 10.0));
    let crowd = async {
        on_air(&house).await;
        tokio::time::sleep(Duration::from_millis(2500)).await;
        let uplink = house.get("/live")["uplink"].clone();
        let (legs, carries) = (uplink["legs_bps"].as_f64().unwrap(), uplink["carries_bps"].as_f64().unwrap());
        assert!(carries == 5e6 && legs > 1e5, "{uplink}");
        let room = ((carries * 0.9 - legs) / legs).floor();
        let enter = |number: u32| {
            Player::new(&house, &format!("viewer {number}")).status("/watch/finish-line/live/index.m3u8") == 200
        };
        let seated = (0..16).filter(|number| enter(*number)).count();
        assert!((seated as f64 - room).abs() <= 1.0 && seated < 16, "{seated} seated, room for {room}");
        let away = Player::new(&house, "late").get("/watch/finish-line/live/index.m3u8");
        assert!(
            away.status == 503 && away.text.contains("the line of this house carries no more viewers"),
            "{}",
            away.text
        );
    };
    let (sent, ()) = tokio::join!(show, crowd);
    assert!(platform.wait_for(crate::house::PATIENCE, |report| report.connections[0].was_ended).await);
    let found = waverant_standin::compare(&sent.sent, &platform.report().connections[0].received, true);
    assert_eq!((found.fault, found.first_picture), (None, Some(0)));
}

/// A rehearsal is seen by who has a link to it, and by nobody else.
#[tokio::test(flavor = "multi_thread")]
async fn a_rehearsal_is_shown_by_a_link_that_says_so() {
    let ground = Ground::new().await;
    let house = ground.start();
    house.make_channel(0);
    house.change_channel(json!({"viewing": {"audience": "everybody"}}));
    let (_, plain) = make_link(&house, json!({"label": "guest"}));
    let (_, crew) = make_link(&house, json!({"label": "crew", "shows_rehearsals": true}));
    house.call("POST", "/channels/finish-line/rehearsals", Some(json!({"seconds": 8})));
    on_air(&house).await;
    let player = Player::new(&house, "player");
    assert_eq!(player.status(&format!("{crew}/live/index.m3u8")), 200);
    assert_eq!(player.status(&format!("{crew}/still.jpg")), 200);
    for path in [plain.as_str(), "/watch/finish-line"] {
        for way in ["live/index.m3u8", "live/index.mpd", "still.jpg"] {
            assert_eq!(player.status(&format!("{path}/{way}")), 404, "{path}/{way}");
        }
        assert!(player.get(&format!("{path}/state")).text.contains("\"off_air\""));
    }
}

/// A take is watched by a link of its own, with its marks, also while the channel is closed; and the newest recording
/// after the show, where the channel opens it.
#[tokio::test(flavor = "multi_thread")]
async fn recordings_are_watched_after_the_show() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    house.change_channel(json!({"viewing": {"audience": "everybody"}}));
    let marking = async {
        on_air(&house).await;
        house.call("POST", "/channels/finish-line/recording/marks", Some(json!({"title": "Heat 1 <starts>"})));
    };
    tokio::join!(house.publish(house.encoder(&key, 5.0)), marking);
    house.ended_session(1).await;
    let player = Player::new(&house, "player");
    let open = "/watch/finish-line";
    assert_eq!(
        (player.status(&format!("{open}/recording")), player.status(&format!("{open}/recording.mp4"))),
        (404, 404)
    );
    house.change_channel(json!({"viewing": {"page": {"shows_recording": true}}}));
    assert!(player.get(&format!("{open}/state")).text.contains("\"has_recording\":true"));
    let told: Value = serde_json::from_str(&player.get(&format!("{open}/recording")).text).unwrap();
    assert_eq!((&told["marks"][0]["title"], &told["title"]), (&json!("Heat 1 <starts>"), &json!("Finish line")));
    let (id, link) = make_link(&house, json!({"label": "heat 1", "take": {"session": 1, "number": 1}}));
    house.change_channel(json!({"viewing": {"audience": "nobody"}}));
    assert_eq!(player.status(&format!("{open}/recording")), 404);
    let file = format!("{link}/recording.mp4");
    let part = Player::new(&house, "player").with("range", "bytes=4-7").get(&file);
    assert_eq!((part.status, part.text.as_str(), part.header("cache-control")), (206, "ftyp", "private, no-store"));
    assert!(part.header("content-range").starts_with("bytes 4-7/"));
    // Many at once are answered alike, and the database is there for everybody else meanwhile.
    std::thread::scope(|scope| {
        let crowd =
            || (0..40).filter(|_| Player::new(&house, "crowd").status(&format!("{link}/recording")) == 200).count();
        let crowds: Vec<_> = (0..6).map(|_| scope.spawn(crowd)).collect();
        let began = std::time::Instant::now();
        house.get("/sessions");
        assert!(began.elapsed() < Duration::from_secs(8), "{:?}", began.elapsed());
        assert_eq!(crowds.into_iter().map(|crowd| crowd.join().unwrap()).sum::<usize>(), 240);
    });
    for way in ["/live/index.m3u8", "/stream.ts", "/still.jpg"] {
        assert_eq!(player.status(&format!("{link}{way}")), 404, "{way}: a take is no show");
    }
    assert_eq!((player.status(&link), player.status(&format!("{link}/embed"))), (200, 200));
    house.call("DELETE", &format!("/channels/finish-line/links/{id}"), None);
    assert_eq!(player.status(&file), 404);
    let missing = json!({"label": "x", "take": {"session": 1, "number": 9}});
    assert_eq!(house.try_call("POST", "/channels/finish-line/links", Some(missing)).0, 422);
    house.call("POST", "/channels", Some(json!({"name": "weir"})));
    let foreign = json!({"label": "x", "take": {"session": 1, "number": 1}});
    let (status, problem) = house.try_call("POST", "/channels/weir/links", Some(foreign));
    assert!(status == 422 && problem["detail"].as_str().unwrap().contains("of `finish-line`"), "{problem}");
}
