//! The doors in front of a house whose judge takes its time: who asks waits, and nobody else does.
#![allow(clippy::unwrap_used, reason = "a test stops at the first surprise")]

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

use rstest::rstest;
use tokio::net::TcpListener;
use tokio::sync::Notify;
use tokio::task::JoinHandle;
use tokio::time::{sleep, timeout};
use waverant_house::{AudienceLimits, FigureDays, House, HouseSetup, Judge, Judgement, Ledger, Question};
use waverant_library::RecordingsFolder;
use waverant_model::{AddChannel, AddKey};
use waverant_relay::{Actor, LobbyLimits, TurnAwayReason};
use waverant_rtmp::Limits;
use waverant_sources::{RtmpDoor, RtmpSettings, SrtDoor, SrtSettings};
use waverant_standin::{Clip, Encoder, EncoderEnd, EncoderOptions, EncoderReport};
use waverant_store::TestDatabase;

const PATIENCE: Duration = Duration::from_secs(10);

/// Decides by the label of the key: `slow` when it is released, `declined` never, all others at once.
#[derive(Debug, Default)]
struct SlowJudge {
    released: Arc<Notify>,
    /// Questions that are being thought about.
    thinking: Arc<AtomicU32>,
    asked: AtomicU32,
}

struct Thought(Arc<AtomicU32>);

impl Drop for Thought {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::SeqCst);
    }
}

impl Judge for SlowJudge {
    fn judge(&self, question: Question) -> Judgement {
        self.asked.fetch_add(1, Ordering::SeqCst);
        let label = question.admission.key_label;
        self.thinking.fetch_add(1, Ordering::SeqCst);
        let (released, thought) = (self.released.clone(), Thought(self.thinking.clone()));
        Box::pin(async move {
            let _thought = thought;
            match label.as_str() {
                "slow" => {
                    released.notified().await;
                    None
                }
                "declined" => Some(TurnAwayReason::Declined),
                _ => None,
            }
        })
    }
}

struct Ground {
    house: Arc<House>,
    judge: Arc<SlowJudge>,
    rtmp: SocketAddr,
    srt: SocketAddr,
    _database: TestDatabase,
    _folder: tempfile::TempDir,
}

impl Ground {
    async fn new() -> Self {
        let (database, folder) = (TestDatabase::create().await.unwrap(), tempfile::tempdir().unwrap());
        let store = database.store().await.unwrap();
        let (ledger, _) = Ledger::start(store.clone(), folder.path()).await.unwrap();
        let recordings = RecordingsFolder { path: folder.path().join("recordings"), floor_bytes: 0 };
        std::fs::create_dir_all(&recordings.path).unwrap();
        recordings.make_mark(&[]).unwrap();
        let judge = Arc::<SlowJudge>::default();
        let setup = HouseSetup {
            database_pid: None,
            store,
            ledger,
            recordings,
            undo_time: Duration::ZERO,
            state_folder: folder.path(),
            judge: Some(judge.clone()),
            checkup_share: 0.0,
            figure_days: FigureDays { tens: 1, minutes: 1 },
            act_days: 1,
            audience: AudienceLimits { viewers: 20, uplink_bps: None },
            slot_sites: Vec::new(),
            viewing_site: None,
        };
        let house = House::open(setup).await.unwrap();
        let places = LobbyLimits { let_in: 20, waiting: 20, per_address: 20 };
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let rtmp = listener.local_addr().unwrap();
        let door = RtmpDoor::new(house.clone(), RtmpSettings { limits: Limits::default(), places });
        house.tasks().spawn(door.listen(listener, None, None));
        let door = SrtDoor::bind("127.0.0.1:0".parse().unwrap()).unwrap();
        let srt = door.local_address().unwrap();
        let settings = SrtSettings { max_connections: 20, max_per_address: 20, idle_timeout: Duration::from_secs(5) };
        house.tasks().spawn(door.listen(house.clone(), settings));
        Self { house, judge, rtmp, srt, _database: database, _folder: folder }
    }

    /// A channel with a key of this label.
    async fn key(&self, channel: &str, label: &str) -> String {
        let channel: AddChannel = serde_json::from_value(serde_json::json!({ "name": channel })).unwrap();
        let name = channel.name.clone();
        self.house.add_channel(channel, &Actor::House).await.unwrap();
        let key: AddKey = serde_json::from_value(serde_json::json!({ "label": label })).unwrap();
        self.house.add_key(&name, key, &Actor::House).await.unwrap().secret.reveal().to_owned()
    }

    fn publish(&self, is_srt: bool, key: String) -> JoinHandle<EncoderReport> {
        let server = if is_srt { format!("srt://{}", self.srt) } else { format!("rtmp://{}/in", self.rtmp) };
        let options = EncoderOptions::new(server, key, Duration::from_secs(1));
        tokio::spawn(async move {
            let clip = Clip::load("../../demo/regatta.mp4".as_ref()).unwrap();
            Encoder::new(clip, options).run().await.unwrap()
        })
    }

    async fn until(&self, what: &str, holds: impl Fn(&Self) -> bool) {
        let waiting = async {
            while !holds(self) {
                sleep(Duration::from_millis(10)).await;
            }
        };
        timeout(PATIENCE, waiting).await.unwrap_or_else(|_| panic!("waited too long until {what}"));
    }
}

#[rstest]
#[case::rtmp(false)]
#[case::srt(true)]
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn who_asks_waits_and_nobody_else(#[case] is_srt: bool) {
    let ground = Ground::new().await;
    let (slow, quick) = (ground.key("boathouse", "slow").await, ground.key("finish-line", "van").await);
    let waiting = ground.publish(is_srt, slow);
    ground.until("the judge is asked", |ground| ground.judge.thinking.load(Ordering::SeqCst) == 1).await;
    // A whole show of another encoder goes by meanwhile, at the same door.
    let other = ground.publish(is_srt, quick).await.unwrap();
    assert_eq!(other.end, EncoderEnd::Finished);
    assert!(ground.house.show(ground.house.channel_id("boathouse").unwrap()).is_none() && !waiting.is_finished());
    ground.judge.released.notify_waiters();
    let report = waiting.await.unwrap();
    assert_eq!(report.end, EncoderEnd::Finished);
    assert_eq!(ground.judge.asked.load(Ordering::SeqCst), 2, "a caller that repeats itself is asked about once");
    ground.house.stopping().cancel();
}

#[rstest]
#[case::rtmp(false)]
#[case::srt(true)]
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn who_is_declined_is_told(#[case] is_srt: bool) {
    let ground = Ground::new().await;
    let key = ground.key("boathouse", "declined").await;
    let EncoderEnd::Refused { description, .. } = ground.publish(is_srt, key).await.unwrap().end else {
        panic!("it was let in");
    };
    assert!(is_srt || description.contains("does not let this caller in"), "{description}");
    assert_eq!(ground.house.counts().all(), [("declined", 1)]);
    ground.house.stopping().cancel();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn who_hangs_up_is_not_thought_about_any_more() {
    let ground = Ground::new().await;
    let key = ground.key("boathouse", "slow").await;
    let waiting = ground.publish(false, key);
    ground.until("the judge is asked", |ground| ground.judge.thinking.load(Ordering::SeqCst) == 1).await;
    waiting.abort();
    ground.until("it is forgotten", |ground| ground.judge.thinking.load(Ordering::SeqCst) == 0).await;
    ground.house.stopping().cancel();
}
