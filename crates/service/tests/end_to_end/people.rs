//! People: who is let in, what each role may do at each route, and how a role or a person ends.

use std::collections::BTreeSet;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::process::Command;
use std::time::{Duration, Instant};

use serde_json::{Value, json};
use socket2::{Domain, Socket, Type};
use waverant_standin::EncoderOptions;

use crate::command_line::Shell;
use crate::house::{Ground, House};

/// Each route with the least role that may call it, and where.
const ROUTES: &str = include_str!("routes.txt");

const ROLES: [&str; 4] = ["observer", "operator", "engineer", "administrator"];

/// The status of a call without a body, with a token or without.
fn status(house: &House<'_>, token: Option<&str>, method: &str, path: &str) -> u16 {
    let url = format!("http://{}/api/v1{path}", house.http);
    let mut curl = Command::new("curl");
    // Event streams do not end by themselves.
    curl.args(["-s", "-o", "/dev/null", "-w", "%{http_code}", "-m", "2", "-X", method, &url]);
    if let Some(token) = token {
        curl.args(["-H", &format!("Authorization: Bearer {token}")]);
    }
    String::from_utf8(curl.output().unwrap().stdout).unwrap().parse().unwrap()
}

/// Lets somebody in with these roles, who chooses a password; returns the token.
fn let_in(house: &House<'_>, name: &str, mut roles: Value) -> String {
    roles["name"] = json!(name);
    let invitation = house.call("POST", "/people", Some(roles));
    accept(house, invitation["code"].as_str().unwrap(), "weir heron ferry")["token"].as_str().unwrap().to_owned()
}

fn accept(house: &House<'_>, code: &str, password: &str) -> Value {
    let form = json!({"code": code, "password": password, "token_label": "test"});
    house.call("POST", "/invitations/accept", Some(form))
}

/// Who calls, by which token, and what the table says of them.
struct Person {
    name: &'static str,
    token: String,
    /// The role in the house.
    house: Option<usize>,
    /// The role on the channel `weir`.
    weir: Option<usize>,
    /// Whether the token may change the account of its person.
    has_account: bool,
}

impl Person {
    /// The status that stands for this row: 403, 404, or none of those that refuse.
    fn expected(&self, row: &Row<'_>) -> Option<u16> {
        let least = ROLES.iter().position(|role| *role == row.least).unwrap();
        let may = |role: Option<usize>| role.is_some_and(|role| role >= least);
        let on_weir = self.house.max(self.weir);
        match row.place {
            "signed-in" => None,
            "account" => (!self.has_account).then_some(403),
            "house" => (!may(self.house)).then_some(403),
            "channel" if on_weir.is_none() => Some(404),
            "channel" | "anywhere" => (!may(on_weir)).then_some(403),
            // Session 999 is nobody's.
            "session" if self.house.is_none() => Some(404),
            "session" => (!may(self.house)).then_some(403),
            other => panic!("`{other}` is no place"),
        }
    }
}

#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
struct Row<'a> {
    method: &'a str,
    path: &'a str,
    least: &'a str,
    place: &'a str,
}

fn rows() -> BTreeSet<Row<'static>> {
    let lines = ROUTES.lines().filter(|line| !line.trim().is_empty() && !line.starts_with('#'));
    let row = |line: &'static str| match line.split_whitespace().collect::<Vec<_>>()[..] {
        [method, path, least, place] => Row { method, path, least, place },
        _ => panic!("`{line}` is no row"),
    };
    lines.map(row).collect()
}

fn crew(house: &House<'_>) -> Vec<Person> {
    let mut crew = Vec::new();
    for (number, role) in ROLES.into_iter().enumerate() {
        let token = let_in(house, role, json!({"role": role}));
        crew.push(Person { name: role, token, house: Some(number), weir: None, has_account: true });
    }
    for (number, role) in ROLES.into_iter().enumerate().take(3) {
        let name = ["observer of weir", "operator of weir", "engineer of weir"][number];
        let token = let_in(house, name, json!({"channels": [{"channel": "weir", "role": role}]}));
        crew.push(Person { name, token, house: None, weir: Some(number), has_account: true });
    }
    let scoped = |form: Value| house.call("POST", "/tokens", Some(form))["token"].as_str().unwrap().to_owned();
    let reads = scoped(json!({"label": "a screen in the hall", "role": "observer"}));
    crew.push(Person { name: "a token to look", token: reads, house: Some(0), weir: None, has_account: false });
    let one = scoped(json!({"label": "buttons", "role": "operator", "channels": ["weir"]}));
    crew.push(Person { name: "a token for weir", token: one, house: None, weir: Some(1), has_account: false });
    let all = scoped(json!({"label": "scripts", "role": "administrator"}));
    crew.push(Person { name: "a token for all", token: all, house: Some(3), weir: None, has_account: true });
    crew
}

/// Every route of the document with every role in the house and on a channel, every scope of a token, without a
/// sign-in, with a token that ended and with one from elsewhere.
#[tokio::test(flavor = "multi_thread")]
async fn each_role_may_call_what_the_table_says() {
    let ground = Ground::new().await;
    let house = ground.start();
    let expected = rows();
    let document = house.get("/openapi.json");
    let mut routes = BTreeSet::new();
    for (path, operations) in document["paths"].as_object().unwrap() {
        for method in operations.as_object().unwrap().keys() {
            routes.insert((method.to_uppercase(), path.strip_prefix("/api/v1").unwrap().to_owned()));
        }
    }
    let known: BTreeSet<_> = expected.iter().map(|row| (row.method.to_owned(), row.path.to_owned())).collect();
    assert_eq!(routes, known, "routes.txt has a row for each route of the document");
    house.call("POST", "/channels", Some(json!({"name": "weir"})));
    let crew = crew(&house);
    let ended = let_in(&house, "who left", json!({"role": "administrator"}));
    house.call("DELETE", "/people/who%20left", None);
    let elsewhere = json!({"label": "venue", "role": "administrator", "addresses": ["192.0.2.0/24"]});
    let elsewhere = house.call("POST", "/tokens", Some(elsewhere))["token"].as_str().unwrap().to_owned();
    for row in expected {
        let (method, path) = (row.method, row.path);
        let address = address(path);
        if row.place == "-" {
            assert_ne!(status(&house, None, method, &address), 401, "{method} {path}");
            continue;
        }
        assert_eq!(status(&house, None, method, &address), 401, "{method} {path} without a sign-in");
        assert_eq!(status(&house, Some(&ended), method, &address), 401, "{method} {path} of who was removed");
        assert_eq!(status(&house, Some(&elsewhere), method, &address), 403, "{method} {path} from elsewhere");
        for person in &crew {
            let who = person.name;
            let refused = person.expected(&row);
            // These end the channel, or the sign-ins that the next rows need.
            let ends = matches!((method, path), ("POST", "/sign-out") | ("DELETE", "/tokens" | "/channels/{channel}"));
            if ends && refused.is_none() {
                continue;
            }
            let found = status(&house, Some(&person.token), method, &address);
            match refused {
                Some(refused) => assert_eq!(found, refused, "{method} {path} as {who}"),
                // What is nobody's is not there for who may look either.
                None => assert!(![401, 403].contains(&found) && found < 500, "{method} {path} as {who}: {found}"),
            }
        }
        if row.place == "channel" {
            let other = address.replace("/weir", "/finish-line");
            let found = status(&house, Some(&crew[6].token), method, &other);
            let expected = if (method, path) == ("DELETE", "/channels/{channel}") { 403 } else { 404 };
            assert_eq!(found, expected, "{method} {other} as engineer of weir");
        }
    }
}

/// A route with names that are nobody's, but for the channel.
fn address(path: &str) -> String {
    let pieces = path.split('/').map(|piece| match piece {
        "{session}" | "{number}" | "{job}" | "{token}" | "{key}" | "{link}" | "{place}" => "999",
        "{channel}" => "weir",
        piece if piece.starts_with('{') => "nowhere",
        piece => piece,
    });
    pieces.collect::<Vec<_>>().join("/")
}

#[tokio::test(flavor = "multi_thread")]
async fn people_are_invited_changed_and_removed() {
    let ground = Ground::new().await;
    let house = ground.start();
    let shell = Shell { house: &house };
    shell.sign_in_as("administrator");
    let told = shell.run(&["person", "add", "cox", "--role", "observer"]);
    let code = told.trim().rsplit('#').next().unwrap().to_owned();
    assert!(told.contains(&format!("http://{}/invitation#", house.http)), "{told}");
    assert_eq!(house.try_call("POST", "/people", Some(json!({"name": "cox", "role": "observer"}))).0, 409);
    let look = |code: &str| house.try_call("POST", "/invitations/look", Some(json!({"code": code})));
    assert_eq!(look(&code).1, json!({"name": "cox", "needs_second_factor": false}));
    let sign_in = |password: &str| {
        let form = json!({"name": "cox", "password": password, "token_label": "t"});
        house.try_call("POST", "/sign-in", Some(form))
    };
    assert_eq!(sign_in("").0, 401, "who chose no password has none");
    let weak = json!({"code": code, "password": "Password123", "token_label": "t"});
    assert_eq!(house.try_call("POST", "/invitations/accept", Some(weak)).0, 422);
    let me = accept(&house, &code, "weir heron ferry");
    assert_eq!((&me["name"], &me["role"]), (&json!("cox"), &json!("observer")));
    assert_eq!(look(&code).0, 403, "it opens once");
    let token = me["token"].as_str().unwrap().to_owned();
    assert_eq!(status(&house, Some(&token), "POST", "/channels"), 403);

    // Another role holds at once; the last administrator stays one.
    shell.run(&["person", "change", "cox", "--role", "engineer"]);
    assert_ne!(status(&house, Some(&token), "POST", "/channels"), 403);
    let refused = house.try_call("PATCH", "/people/harbour", Some(json!({"role": "observer"})));
    assert!(refused.0 == 409 && refused.1["detail"].as_str().unwrap().contains("last administrator"), "{refused:?}");
    assert_eq!(house.try_call("DELETE", "/people/harbour", None).0, 409);

    // Who lost the password gets another code; all that was signed in ends with it, and the first code is worthless.
    let first = house.call("POST", "/people/cox/invitation", Some(json!({})))["code"].as_str().unwrap().to_owned();
    let second =
        house.call("POST", "/people/cox/invitation", Some(json!({"hours": 1})))["code"].as_str().unwrap().to_owned();
    assert_eq!((look(&first).0, look(&second).0), (403, 200));
    accept(&house, &second, "another heron ferry");
    assert_eq!(status(&house, Some(&token), "GET", "/me"), 401);
    assert_eq!((sign_in("weir heron ferry").0, sign_in("another heron ferry").0), (401, 200));
    assert_eq!(house.try_call("POST", "/people/cox/invitation", Some(json!({"hours": 0}))).0, 422);
    assert!(shell.run(&["person", "list"]).contains("harbour (you)"));

    shell.run(&["person", "remove", "cox", "--yes"]);
    assert_eq!(sign_in("another heron ferry").0, 401);
    assert!(shell.fail(&["person", "remove", "cox", "--yes"], 1).contains("no person `cox`"));
    let log = ground.log();
    assert!(log.contains("a person is let in") && !log.contains(&code) && !log.contains(&second), "no code in the log");
}

/// Codes are not found by trying.
#[tokio::test(flavor = "multi_thread")]
async fn codes_are_not_guessed() {
    let ground = Ground::new().await;
    let house = ground.start();
    let guess =
        |number: usize| house.try_call("POST", "/invitations/look", Some(json!({"code": format!("guess{number}")}))).0;
    let found: Vec<u16> = (0..30).map(guess).collect();
    assert!(found.iter().all(|status| [403, 429].contains(status)), "{found:?}");
    assert_eq!(found.last(), Some(&429), "{found:?}");
}

/// Who is on one channel sees nothing of another.
#[tokio::test(flavor = "multi_thread")]
async fn who_is_on_one_channel_sees_that_one() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    house.call("POST", "/channels", Some(json!({"name": "weir", "title": "Weir"})));
    for name in ["plovio", "quayside"] {
        let form = json!({"name": name, "address": "rtmp://127.0.0.1:9/in", "key": "k"});
        house.call("POST", "/destinations", Some(form));
    }
    house.send("quayside", json!({"is_on": false}));
    house.call("PUT", "/channels/weir/destinations/plovio", Some(json!({"is_on": false})));
    house.publish(house.encoder(&key, 3.0)).await;
    let rehearsal = house.call("POST", "/channels/weir/rehearsals", Some(json!({"seconds": 60})));
    let sessions = house.get("/sessions")["items"].as_array().unwrap().clone();
    let finish = sessions.iter().find(|session| session["channel"] == "finish-line").unwrap()["id"].clone();
    let cox = let_in(&house, "cox", json!({"channels": [{"channel": "weir", "role": "operator"}]}));
    let asks = |path: &str| house.call_as(&cox, "GET", path, None);
    let names = |list: &Value, field: &str| -> Vec<String> {
        list.as_array().unwrap().iter().map(|item| item[field].as_str().unwrap().to_owned()).collect()
    };
    let weir = json!([{"channel": "weir", "role": "operator"}]);
    let me = json!({"name": "cox", "role": null, "channels": weir, "lacks_second_factor": false});
    assert_eq!(asks("/me").1, me);
    assert_eq!(names(&asks("/channels").1, "name"), ["weir"]);
    assert_eq!(names(&asks("/destinations").1, "name"), ["plovio"]);
    assert_eq!(names(&asks("/sessions").1["items"], "channel"), ["weir"]);
    assert_eq!(asks("/takes").1["items"], json!([]));
    let board = asks("/live").1;
    assert_eq!(names(&board["channels"], "name"), ["weir"]);
    assert_eq!((&board["host"], &board["disk"], &board["refused_counts"]), (&json!(null), &json!(null), &json!([])));
    let (own, other) = (&rehearsal["session"], &finish);
    for (path, expected) in [
        (format!("/sessions/{own}"), 200),
        (format!("/sessions/{own}/timeline"), 200),
        (format!("/sessions/{own}/timeline?beside={other}"), 404),
        (format!("/sessions/{other}"), 404),
        (format!("/sessions/{other}/report"), 404),
        (format!("/takes/{other}/1"), 404),
        (format!("/takes/{other}/1/file"), 404),
        ("/channels/finish-line".to_owned(), 404),
        ("/channels/finish-line/still".to_owned(), 404),
        ("/channels/weir/keys".to_owned(), 403),
        ("/machine/timeline".to_owned(), 403),
    ] {
        assert_eq!(asks(&path).0, expected, "{path}");
    }
    let question = json!({"complaint": "no sound", "channel": "finish-line"});
    assert_eq!(house.call_as(&cox, "POST", "/findings/ask", Some(question)).0, 404);
    // It switches what the channel has, and does not send to what is another's.
    let switch = |name: &str| {
        let path = format!("/channels/weir/destinations/{name}");
        house.call_as(&cox, "PUT", &path, Some(json!({"is_on": true}))).0
    };
    assert_eq!((switch("plovio"), switch("quayside"), switch("none")), (200, 404, 404));
    house.call("POST", "/channels/weir/end-session", None);
    let rehearse = json!({"seconds": 1, "destinations": ["quayside"]});
    assert_eq!(house.call_as(&cox, "POST", "/channels/weir/rehearsals", Some(rehearse)).0, 404);
    // Another role holds at once.
    let roles = json!({"channels": [{"channel": "finish-line", "role": "observer"}]});
    house.call("PATCH", "/people/cox", Some(roles));
    assert_eq!(
        (names(&asks("/channels").1, "name"), asks(&format!("/takes/{other}/1")).0),
        (vec!["finish-line".into()], 200)
    );
    assert_eq!(house.try_call("PATCH", "/people/cox", Some(json!({}))).0, 422);
    let administrator = json!({"channels": [{"channel": "weir", "role": "administrator"}]});
    assert_eq!(house.try_call("PATCH", "/people/cox", Some(administrator)).0, 422);
}

/// Removing somebody ends what runs: the live events and a download.
#[tokio::test(flavor = "multi_thread")]
async fn what_somebody_has_open_ends_with_them() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    // Several times what the kernel and the service hold for a connection.
    house.publish(EncoderOptions { speed: 4, ..house.encoder(&key, 80.0) }).await;
    house.wait_until("the take is there", |house| house.get("/takes")["items"][0]["state"] == "complete").await;
    let size = house.get("/takes")["items"][0]["size_bytes"].as_u64().unwrap();
    let cox = let_in(&house, "cox", json!({"role": "observer"}));
    let session = house.get("/sessions")["items"][0]["id"].clone();
    let open = |path: &str| Open::new(&house, &cox, path);
    let (mut events, mut take) = (open("/live/events"), open(&format!("/takes/{session}/1/file")));
    let began = Instant::now();
    house.call("DELETE", "/people/cox", None);
    let events = events.rest();
    assert!(String::from_utf8_lossy(&events).contains("event: board") && events.ends_with(b"0\r\n\r\n"));
    assert!(began.elapsed() < Duration::from_secs(20), "{:?}", began.elapsed());
    // Nobody took the file meanwhile; what the kernel had of it comes, and no more.
    tokio::time::sleep(Duration::from_secs(6).saturating_sub(began.elapsed())).await;
    let fetched = take.rest().len() as u64;
    assert!(fetched > 0 && fetched < size, "{fetched} of {size}");
}

/// An answer that is taken slowly.
struct Open(TcpStream);

impl Open {
    fn new(house: &House<'_>, token: &str, path: &str) -> Self {
        let socket = Socket::new(Domain::IPV4, Type::STREAM, None).unwrap();
        socket.set_recv_buffer_size(16 * 1024).unwrap();
        socket.connect(&house.http.into()).unwrap();
        let mut stream = TcpStream::from(socket);
        stream.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
        let head =
            format!("GET /api/v1{path} HTTP/1.1\r\nhost: {}\r\nauthorization: Bearer {token}\r\n\r\n", house.http);
        stream.write_all(head.as_bytes()).unwrap();
        let mut begin = [0; 12];
        stream.read_exact(&mut begin).unwrap();
        assert_eq!(&begin, b"HTTP/1.1 200");
        Self(stream)
    }

    /// All that comes until the other side ends it.
    fn rest(&mut self) -> Vec<u8> {
        let mut bytes = Vec::new();
        tokio::task::block_in_place(|| {
            let mut piece = [0; 64 * 1024];
            while let Ok(count @ 1..) = self.0.read(&mut piece) {
                bytes.extend_from_slice(&piece[..count]);
                if bytes.ends_with(b"0\r\n\r\n") {
                    break;
                }
            }
        });
        bytes
    }
}
