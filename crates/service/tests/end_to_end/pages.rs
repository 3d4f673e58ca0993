//! What the page of a channel says, and the list of the house.

use serde_json::json;

use crate::house::Ground;

const POSTER: &[u8] = b"\xff\xd8\xff\xe0 a poster";

#[tokio::test(flavor = "multi_thread")]
async fn a_page_says_what_it_was_told_and_nothing_that_runs() {
    let ground = Ground::new().await;
    ground.write_settings("");
    let settings = std::fs::read_to_string(ground.path("waverant.toml")).unwrap();
    let sites = "slot_sites = \"https://chat.club.example\"\nviewing_site = \"https://watch.club.example:8443/\"\n";
    let settings = settings.replace("[house]\n", &format!("[house]\n{sites}"));
    std::fs::write(ground.path("waverant.toml"), settings).unwrap();
    let house = ground.start();
    house.make_channel(0);
    let agent: ureq::Agent = ureq::Agent::config_builder().http_status_as_error(false).build().into();
    let get = |path: &str| {
        let mut answer = agent.get(format!("http://{}{path}", house.viewing)).call().unwrap();
        let header = |name: &str| {
            answer.headers().get(name).and_then(|value| value.to_str().ok()).unwrap_or_default().to_owned()
        };
        let headers = (header("content-type"), header("content-security-policy"));
        (answer.status().as_u16(), answer.body_mut().read_to_vec().unwrap(), headers)
    };
    let text = |path: &str| String::from_utf8(get(path).1).unwrap();
    assert_eq!(get("/").0, 404, "without a channel that wants to be found the house has no list");
    house.change_channel(json!({"title": "Heats <& finals>", "viewing": {"audience": "everybody", "page": {
        "description": "# Regatta\n\n**Eights** at two <script>alert(1)</script>",
        "tags": ["rowing"], "links": [{"label": "Results", "address": "https://club.example/results"}],
        "starts_at": "2126-05-17T14:00:00Z", "accent": "#0B5563", "style": "h1 { letter-spacing: 1px }",
        "slot": "https://chat.club.example/room?7", "is_listed": true,
    }}}));
    let about: serde_json::Value = serde_json::from_str(&text("/watch/finish-line/about")).unwrap();
    let description = about["description"].as_str().unwrap();
    assert!(description.contains("<strong>Eights</strong>") && !description.contains("script"), "{description}");
    assert_eq!((&about["accent"], &about["has_poster"]), (&json!("#0b5563"), &json!(false)));
    assert_eq!((&about["slot"], &about["has_style"]), (&json!("https://chat.club.example/room?7"), &json!(true)));
    let (_, page, (_, policy)) = get("/watch/finish-line");
    let page = String::from_utf8(page).unwrap();
    assert!(page.contains("<title>Heats &lt;&amp; finals&gt;</title>"), "{page}");
    assert!(page.contains("content=\"Regatta Eights at two"), "{page}");
    assert!(policy.ends_with("frame-ancestors 'none'; frame-src https://chat.club.example"), "{policy}");
    assert_eq!(get("/watch/finish-line/style.css").2.0, "text/css; charset=utf-8");
    assert_eq!(get("/watch/finish-line/poster").0, 404);
    let poster = "/channels/finish-line/poster";
    assert_eq!(house.upload(poster, POSTER.to_vec()).0, 204);
    let (status, bytes, (kind, _)) = get("/watch/finish-line/poster");
    assert_eq!((status, bytes.as_slice(), kind.as_str()), (200, POSTER, "image/jpeg"));
    // Behind a proxy, what is told begins with the site that the settings name.
    let told = "content=\"https://watch.club.example:8443/watch/finish-line/poster\"";
    assert!(text("/watch/finish-line").contains(told));
    let addresses = house.get("/channels/finish-line")["viewing"]["addresses"].clone();
    assert_eq!(addresses["hls"], "https://watch.club.example:8443/watch/finish-line/live/index.m3u8");
    assert_eq!(addresses["pictures"], "wss://watch.club.example:8443/watch/finish-line/pictures");
    assert_eq!(house.upload(poster, b"<svg/>".to_vec()).0, 422);
    assert_eq!(house.upload(poster, vec![0xff; 4 * 1024 * 1024 + 1]).0, 422);
    let listed: serde_json::Value = serde_json::from_str(&text("/watch-list")).unwrap();
    assert_eq!(listed["channels"][0]["title"], "Heats <& finals>");
    assert!(text("/").contains("<h1"));
    // What is left out stays, what is empty goes, and the poster with it when it is removed.
    house.change_channel(json!({"viewing": {"page": {"slot": "", "starts_at": "", "tags": []}}}));
    house.call("DELETE", poster, None);
    let now = house.get("/channels/finish-line")["viewing"]["page"].clone();
    assert_eq!((&now["slot"], &now["starts_at"], &now["tags"]), (&json!(null), &json!(null), &json!([])));
    assert_eq!((&now["has_poster"], &now["accent"]), (&json!(false), &json!("#0b5563")));
    for (page, field) in [
        (json!({"accent": "red"}), "viewing.page.accent"),
        (json!({"slot": "https://elsewhere.example/"}), "viewing.page.slot"),
        (json!({"slot": "javascript:alert(1)"}), "viewing.page.slot"),
        (json!({"links": [{"label": "x", "address": "javascript:alert(1)"}]}), "viewing.page.links"),
        (json!({"starts_at": "tomorrow"}), "viewing.page.starts_at"),
        (json!({"description": "x".repeat(8001)}), "viewing.page.description"),
        (json!({"tags": vec!["x"; 13]}), "viewing.page.tags"),
    ] {
        let (status, problem) =
            house.try_call("PATCH", "/channels/finish-line", Some(json!({"viewing": {"page": page}})));
        assert!(status == 422 && problem["detail"].as_str().unwrap().starts_with(field), "{problem}");
    }
    house.change_channel(json!({"viewing": {"audience": "by_link"}}));
    assert_eq!((get("/watch-list").0, get("/watch/finish-line/about").0), (404, 404));
}

/// Two people change two things of a channel at the same time: both hold.
#[tokio::test(flavor = "multi_thread")]
async fn of_two_changes_at_once_neither_is_lost() {
    let ground = Ground::new().await;
    let house = ground.start();
    house.make_channel(0);
    for round in 0..10 {
        let title = format!("Heat {round}");
        std::thread::scope(|scope| {
            scope.spawn(|| house.change_channel(json!({"title": title})));
            scope.spawn(|| house.change_channel(json!({"hold_ms": 1000 + round})));
            scope.spawn(|| house.change_channel(json!({"viewing": {"page": {"description": title}}})));
        });
        let now = house.get("/channels/finish-line");
        assert_eq!((&now["title"], &now["hold_ms"]), (&json!(title), &json!(1000 + round)));
        assert_eq!(now["viewing"]["page"]["description"], title);
    }
}
