//! Everything that befalls a database in mid-show: the show and the gate go on, the board is seen, shows are ended and
//! recordings begun and stopped; what happened is written once when the trouble is over, and others are told of it.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::process::{Child, Command, Stdio};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use rstest::rstest;
use serde_json::{Value, json};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;
use tokio::task::JoinHandle;
use waverant_standin::{Club, ClubAnswer, Encoder, EncoderEnd, EncoderReport, compare};

use crate::house::{Ground, House, PATIENCE, clip};
use crate::own_database::OwnServer;

/// What befalls it.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Trouble {
    /// It stands still, and goes on where it was.
    Stopped,
    /// It dies, and is started again.
    Killed,
    /// Somebody holds a lock on everything.
    Locked,
    /// It goes on for a moment now and then.
    Slow,
    /// It may be read from only.
    ReadOnly,
    /// It has no room for another row.
    Full,
    /// Another server takes its place; connections to the one before hear nothing more.
    FailsOver,
}

/// Tables that shows, people and calls write into.
const TABLES: [&str; 8] =
    ["sessions", "show_reports", "legs", "takes", "acts", "deliveries", "turned_away", "stream_keys"];

/// Leads to one server, and then to another.
struct Way {
    address: SocketAddr,
    leads_to: Arc<Mutex<SocketAddr>>,
    /// True once nothing is carried any more of what was there before, and nobody is told.
    is_cut: watch::Sender<bool>,
}

impl Way {
    async fn to(server: SocketAddr) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        let (leads_to, is_cut) = (Arc::new(Mutex::new(server)), watch::Sender::new(false));
        tokio::spawn({
            let (leads_to, is_cut) = (leads_to.clone(), is_cut.clone());
            async move {
                while let Ok((mut from, _)) = listener.accept().await {
                    let (server, mut cut) = (*leads_to.lock().unwrap(), is_cut.subscribe());
                    tokio::spawn(async move {
                        let Ok(mut to) = TcpStream::connect(server).await else { return };
                        tokio::select! {
                            _ = tokio::io::copy_bidirectional(&mut from, &mut to) => return,
                            _ = cut.changed() => {}
                        }
                        // Both stay open: no end of the line hears that the other is gone.
                        std::future::pending::<()>().await;
                        drop((from, to));
                    });
                }
            }
        });
        Self { address, leads_to, is_cut }
    }
}

/// A database in trouble, until it is out of it.
struct Patient {
    server: OwnServer,
    way: Way,
    trouble: Trouble,
    /// Who holds the lock, or makes it slow.
    holder: Option<Child>,
}

impl Drop for Patient {
    fn drop(&mut self) {
        if let Some(mut holder) = self.holder.take() {
            let _ = holder.kill();
            let _ = holder.wait();
        }
    }
}

impl Patient {
    async fn new(trouble: Trouble) -> Self {
        let server = tokio::task::block_in_place(OwnServer::start);
        let way = Way::to(server.address).await;
        Self { server, way, trouble, holder: None }
    }

    fn url(&self) -> String {
        self.server.url("relay").replace(&self.server.address.to_string(), &self.way.address.to_string())
    }

    fn begin(&mut self) {
        let pid = self.server.child.id();
        match self.trouble {
            Trouble::Stopped => self.server.signal("-STOP"),
            Trouble::Killed => self.server.end(),
            Trouble::FailsOver => {
                self.way.is_cut.send_replace(true);
                self.server.end();
            }
            Trouble::Locked => {
                let mut holder = self.server.client();
                holder.args(["-e", "FLUSH TABLES WITH READ LOCK; SELECT SLEEP(600)"]);
                self.holder = Some(holder.stdout(Stdio::null()).spawn().unwrap());
            }
            Trouble::Slow => {
                let beat = format!("while kill -STOP {pid}; do sleep 2.5; kill -CONT {pid}; sleep 0.05; done");
                self.holder = Some(Command::new("sh").args(["-c", &beat]).stderr(Stdio::null()).spawn().unwrap());
            }
            Trouble::ReadOnly => self.server.tell("SET GLOBAL read_only = 1"),
            Trouble::Full => {
                for table in TABLES {
                    for (name, event) in [("i", "INSERT"), ("u", "UPDATE")] {
                        self.server.tell(&format!(
                            "CREATE TRIGGER regatta.full_{table}_{name} BEFORE {event} ON regatta.{table} FOR EACH ROW \
                             SIGNAL SQLSTATE 'HY000' SET MYSQL_ERRNO = 1114, MESSAGE_TEXT = 'The table is full'"
                        ));
                    }
                }
            }
        }
    }

    fn end(&mut self) {
        if let Some(mut holder) = self.holder.take() {
            let _ = holder.kill();
            let _ = holder.wait();
        }
        match self.trouble {
            Trouble::Stopped | Trouble::Slow => self.server.signal("-CONT"),
            Trouble::Killed => self.server.start_again(),
            Trouble::FailsOver => {
                self.server.start_elsewhere();
                *self.way.leads_to.lock().unwrap() = self.server.address;
            }
            Trouble::Locked => {}
            Trouble::ReadOnly => self.server.tell("SET GLOBAL read_only = 0"),
            Trouble::Full => {
                for table in TABLES {
                    for name in ["i", "u"] {
                        self.server.tell(&format!("DROP TRIGGER regatta.full_{table}_{name}"));
                    }
                }
            }
        }
    }
}

fn begin(house: &House<'_>, key: &str, seconds: f64) -> JoinHandle<EncoderReport> {
    let options = house.encoder(key, seconds);
    tokio::spawn(async move { Encoder::new(clip(), options).run().await.unwrap() })
}

fn weir(live: &Value) -> &Value {
    live["channels"].as_array().unwrap().iter().find(|channel| channel["name"] == "weir").unwrap()
}

/// What people and strangers do while it lasts: the board is seen, a recording is stopped and begun, a show ended.
async fn use_the_house(house: &House<'_>, other: &str, trouble: Trouble) {
    for _ in 0..2 {
        assert_eq!(begin(house, other, 1.0).await.unwrap().end, EncoderEnd::Finished, "a known key opens");
    }
    for _ in 0..40 {
        let _ = begin(house, "abcdefg-zyxwvutsrqponmlkjihgfedcba", 0.2).await;
    }
    let on = begin(house, other, 60.0);
    house.wait_until("on air", |house| weir(&house.get("/live"))["session"]["video"].is_object()).await;
    house.wait_until("it records", |house| weir(&house.get("/live"))["session"]["recorder"] == "recording").await;
    for what in ["recording/stop", "recording/start"] {
        let began = Instant::now();
        let (status, told) = house.try_call("POST", &format!("/channels/weir/{what}"), None);
        assert!(
            status < 300 && began.elapsed() < Duration::from_secs(15),
            "{what}: {status} {told} {:?}",
            began.elapsed()
        );
        tokio::time::sleep(Duration::from_millis(1500)).await;
    }
    house.call("POST", "/channels/weir/end-session", None);
    on.await.unwrap();
    // One that is slow takes records all the same.
    if trouble != Trouble::Slow {
        let is_found = |house: &House<'_>| house.get("/live")["findings"].to_string().contains("database_away");
        house.wait_until("it is found", is_found).await;
    }
}

#[rstest]
#[case::stopped(Trouble::Stopped, false)]
#[case::stopped_with_a_restart(Trouble::Stopped, true)]
#[case::killed(Trouble::Killed, false)]
#[case::killed_with_a_restart(Trouble::Killed, true)]
#[case::locked(Trouble::Locked, false)]
#[case::locked_with_a_restart(Trouble::Locked, true)]
#[case::slow(Trouble::Slow, false)]
#[case::slow_with_a_restart(Trouble::Slow, true)]
#[case::read_only(Trouble::ReadOnly, false)]
#[case::read_only_with_a_restart(Trouble::ReadOnly, true)]
#[case::full(Trouble::Full, false)]
#[case::full_with_a_restart(Trouble::Full, true)]
#[case::fails_over(Trouble::FailsOver, false)]
#[case::fails_over_with_a_restart(Trouble::FailsOver, true)]
#[tokio::test(flavor = "multi_thread")]
async fn nothing_is_lost_and_nothing_is_twice(#[case] trouble: Trouble, #[case] is_restarted: bool) {
    let mut ground = Ground::new().await;
    let mut patient = Patient::new(trouble).await;
    ground.use_database(patient.url());
    ground.write_settings("[calls]\nprivate_addresses = \"127.0.0.1\"\n");
    let mut house = ground.start();
    let key = house.make_channel(0);
    house.call("POST", "/channels", Some(json!({"name": "weir"})));
    let other = house.call("POST", "/channels/weir/keys", Some(json!({"label": "weir"})));
    let other = other["encoder"]["key"].as_str().unwrap().to_owned();
    let platform = house.add_platform("plovio", None).await;
    let club = Club::open(|_| ClubAnswer::new(204, "")).await.unwrap();
    let kinds = ["session.begins", "session.is_over", "take.ready"];
    house.call("POST", "/call-targets", Some(json!({"name": "club", "address": club.url(), "kinds": kinds})));
    let show = begin(&house, &key, if is_restarted { 600.0 } else { 25.0 });
    house.wait_until("on air", |house| house.live()["session"]["video"].is_object()).await;

    tokio::task::block_in_place(|| patient.begin());
    use_the_house(&house, &other, trouble).await;
    if is_restarted {
        let began = Instant::now();
        house.signal("-TERM");
        assert_eq!(house.wait_for_exit(), Some(0));
        // Fifteen seconds, and what a busy machine adds.
        assert!(began.elapsed() < Duration::from_secs(25), "it took {:?}", began.elapsed());
        drop(house);
        tokio::task::block_in_place(|| patient.end());
        house = ground.start();
        let _ = show.await.unwrap();
    } else {
        tokio::task::block_in_place(|| patient.end());
        let sent = show.await.unwrap();
        assert_eq!(sent.end, EncoderEnd::Finished);
        assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
        assert_eq!(compare(&sent.sent, &platform.report().connections[0].received, true).fault, None);
    }
    house
        .wait_up_to(4 * PATIENCE, "all is told", |house| {
            let (status, all) = house.try_call("GET", "/call-targets", None);
            let over =
                club.questions().iter().filter(|told| told.question["type"] == "waverant.session.is_over").count();
            status == 200 && all["items"][0]["waiting"] == 0 && over >= 4
        })
        .await;
    check(&house, &club);
}

/// Another server takes its place while a statement is under way, of which nobody hears any more: what was told is written
/// down by another connection, and what waits behind it is told.
#[tokio::test(flavor = "multi_thread")]
async fn a_statement_under_way_is_not_waited_for_without_an_end() {
    let mut ground = Ground::new().await;
    let mut patient = Patient::new(Trouble::FailsOver).await;
    ground.use_database(patient.url());
    ground.write_settings("[calls]\nprivate_addresses = \"127.0.0.1\"\n");
    let house = ground.start();
    let key = house.make_channel(0);
    let club = Club::open(|_| ClubAnswer::new(204, "").after(Duration::from_secs(3))).await.unwrap();
    let kinds = ["session.begins", "session.is_over"];
    house.call("POST", "/call-targets", Some(json!({"name": "club", "address": club.url(), "kinds": kinds})));
    begin(&house, &key, 0.5).await.unwrap();
    house.wait_until("it is being told", |_| !club.questions().is_empty()).await;
    let mut lock = patient.server.client();
    lock.args(["-e", "FLUSH TABLES WITH READ LOCK; SELECT SLEEP(600)"]);
    patient.holder = Some(lock.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap());
    // It has answered, and that is being written down.
    tokio::time::sleep(Duration::from_secs(5)).await;
    tokio::task::block_in_place(|| {
        patient.begin();
        patient.end();
    });
    club.answer(|_| ClubAnswer::new(204, ""));
    house
        .wait_up_to(2 * PATIENCE, "all is told", |house| {
            let (status, all) = house.try_call("GET", "/call-targets", None);
            status == 200 && all["items"][0]["waiting"] == 0 && club.questions().len() >= 2
        })
        .await;
    let all = house.get("/deliveries")["items"].as_array().unwrap().clone();
    assert!(all.len() == 2 && all.iter().all(|one| one["state"] == "delivered"), "{all:?}");
}

/// Four sessions with their ends, takes and legs; each told once, in order.
fn check(house: &House<'_>, club: &Club) {
    let sessions = house.get("/sessions?limit=100")["items"].as_array().unwrap().clone();
    assert_eq!(sessions.len(), 4, "{sessions:?}");
    let mut takes = 0;
    for session in &sessions {
        let id = session["id"].as_u64().unwrap();
        let whole = house.get(&format!("/sessions/{id}"));
        assert!(whole["session"]["ended_at"].is_string(), "{whole}");
        let of = whole["takes"].as_array().unwrap();
        assert!(!of.is_empty() && of.iter().all(|take| take["state"] == "complete"), "{whole}");
        assert!(session["channel"] == "weir" || whole["legs"].as_array().unwrap().len() == 1, "{whole}");
        takes += of.len();
    }
    assert!(takes >= 5, "a recording was stopped and begun");
    let mut told: BTreeMap<(u64, String), Vec<String>> = BTreeMap::new();
    for event in club.questions() {
        let (data, text) =
            (&event.question["data"], |name: &str| event.question[name].as_str().unwrap_or_default().to_owned());
        let what = format!("{} {}", text("type").trim_start_matches("waverant."), data["take"]);
        let ids = told.entry((data["session"].as_u64().unwrap(), what)).or_default();
        if !ids.contains(&text("id")) {
            ids.push(text("id"));
        }
    }
    assert!(told.values().all(|ids| ids.len() == 1), "each is one event: {told:?}");
    let count = |kind: &str| told.keys().filter(|(_, what)| what.starts_with(kind)).count();
    assert_eq!((count("session.begins"), count("session.is_over"), count("take.ready")), (4, 4, takes), "{told:?}");
    let acts = house.get("/acts?limit=200")["items"].as_array().unwrap().clone();
    for what in ["end_session", "stop_recording", "start_recording"] {
        assert_eq!(acts.iter().filter(|act| act["what"] == what).count(), 1, "{what}: {acts:?}");
    }
    let away = house.get("/turned-away")["items"].as_array().unwrap().clone();
    assert!(away.len() == 1 && away[0]["count"].as_u64().unwrap() >= 20, "{away:?}");
}
