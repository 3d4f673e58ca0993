//! Legs to platforms in memory, on a clock that stands still until everybody waits.

use std::collections::VecDeque;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use parking_lot::Mutex;
use tokio::io::{AsyncReadExt, AsyncWriteExt, DuplexStream, duplex};
use tokio::sync::Notify;
use tokio::time::{sleep, timeout};
use waverant_media::testing::h264_and_aac;
use waverant_media::{MediaTime, Packet, TrackId, TrackKind, Tracks};
use waverant_net::Wire;
use waverant_relay::{LegDestination, LegOrder, LegPhase, Origin, Secret, ShowRecord};
use waverant_rtmp::{MediaKind, Refusal, ServerConfig, ServerConnection, ServerEvent};

use super::{Call, DialError, Dialed, Dialer, Dialing, LegHandle, start};
use crate::clock;
use crate::context::ShowContext;
use crate::testing::{MemoryLedger, context};

/// What a platform does with the next connection.
#[derive(Clone, Copy, Debug)]
enum Manner {
    /// It takes the stream.
    Takes,
    /// It takes it and hangs up after so many pictures.
    HangsUp(usize),
    /// It says no.
    Refuses,
    /// It takes the stream and reads nothing any more.
    Stalls,
    /// It cannot be reached.
    Away,
}

/// A platform in memory; without further manners it takes the stream.
#[derive(Debug, Default)]
struct Platform {
    manners: Mutex<VecDeque<Manner>>,
    /// Pictures of each connection that was made.
    pictures: Mutex<Vec<usize>>,
    news: Notify,
}

impl Platform {
    fn with(manners: impl IntoIterator<Item = Manner>) -> Arc<Self> {
        Arc::new(Self { manners: Mutex::new(manners.into_iter().collect()), ..Self::default() })
    }

    fn connections(&self) -> usize {
        self.pictures.lock().len()
    }

    fn pictures(&self) -> usize {
        self.pictures.lock().iter().sum()
    }

    async fn serve(self: Arc<Self>, mut stream: DuplexStream, manner: Manner) {
        let place = {
            let mut pictures = self.pictures.lock();
            pictures.push(0);
            pictures.len() - 1
        };
        let mut server = ServerConnection::new(ServerConfig::default(), clock::now());
        let mut buffer = vec![0; 4096];
        loop {
            while let Some(piece) = server.poll_transmit() {
                if stream.write_all(&piece).await.is_err() {
                    return;
                }
            }
            let Ok(count @ 1..) = stream.read(&mut buffer).await else { return };
            server.handle_input(clock::now(), &buffer[..count]).unwrap();
            while let Some(event) = server.poll_event() {
                match event {
                    ServerEvent::PublishRequested(request) if matches!(manner, Manner::Refuses) => {
                        let description = "not now".to_owned();
                        server.refuse(request.stream, &Refusal { description }).unwrap();
                    }
                    ServerEvent::PublishRequested(request) => {
                        server.accept_publish(clock::now(), request.stream).unwrap();
                    }
                    ServerEvent::Media { kind: MediaKind::Video, .. } => self.pictures.lock()[place] += 1,
                    _ => {}
                }
            }
            self.news.notify_waiters();
            let seen = self.pictures.lock()[place];
            match manner {
                // The first message of a track is its header.
                Manner::HangsUp(most) if seen > most => return,
                Manner::Stalls if seen > 0 => std::future::pending().await,
                _ => {}
            }
        }
    }
}

#[derive(Debug)]
struct MemoryDialer(Arc<Platform>);

impl Dialer for MemoryDialer {
    fn dial<'a>(&'a self, _: Call<'a>) -> Dialing<'a> {
        Box::pin(async {
            let manner = self.0.manners.lock().pop_front().unwrap_or(Manner::Takes);
            if matches!(manner, Manner::Away) {
                return Err(DialError::TlsSlow);
            }
            let (near, far) = duplex(16 * 1024);
            tokio::spawn(self.0.clone().serve(far, manner));
            Ok(Dialed { wire: Wire::Memory(near), home: None })
        })
    }
}

/// A show with one leg.
struct Bench {
    show: ShowContext,
    ledger: Arc<MemoryLedger>,
    platform: Arc<Platform>,
    leg: LegHandle,
    tracks: Arc<Tracks>,
    millis: i64,
}

fn order() -> LegOrder {
    let destination = LegDestination {
        id: 3,
        name: "quayside".to_owned(),
        address: "rtmp://quayside.test/live".to_owned(),
        authority: None,
        key: Secret::new("lantern"),
        srt_latency: Duration::ZERO,
        passphrase: None,
    };
    LegOrder::at_once(destination, Duration::ZERO)
}

impl Bench {
    fn new(manners: impl IntoIterator<Item = Manner>, order: &LegOrder) -> Self {
        let ledger = Arc::<MemoryLedger>::default();
        let show = context(ledger.clone(), PathBuf::new());
        let platform = Platform::with(manners);
        let leg = start(show.clone(), Arc::new(MemoryDialer(platform.clone())), order);
        Self { show, ledger, platform, leg, tracks: Arc::new(h264_and_aac()), millis: 0 }
    }

    /// Sends a show of 25 pictures a second, a keyframe each second.
    async fn play(&mut self, seconds: i64) {
        for _ in 0..seconds * 25 {
            let time = MediaTime::from_millis(self.millis);
            let random_access = self.millis % 1000 == 0;
            let payload = [0x65, 0x88, 0x80, 0x10].repeat(100).into();
            let (track, kind) = (TrackId::VIDEO, TrackKind::Video);
            let packet = Packet { track, kind, dts: time, pts: time, random_access, payload };
            self.show.feeds.live().push(packet, self.tracks.clone(), Origin::Show);
            self.show.feeds.live().tell_news();
            self.millis += 40;
            sleep(Duration::from_millis(40)).await;
        }
    }

    async fn reaches(&self, phase: LegPhase) -> bool {
        let reached = async {
            while self.leg.status.snapshot().record.state != phase {
                sleep(Duration::from_millis(10)).await;
            }
        };
        timeout(Duration::from_secs(120), reached).await.is_ok()
    }

    async fn end(mut self) -> Vec<LegPhase> {
        self.show.feeds.end();
        let task = self.leg.task.take().unwrap();
        timeout(Duration::from_secs(30), task).await.expect("the leg ends with its show").unwrap();
        let phases = self.ledger.records().into_iter().map(|record| match record {
            ShowRecord::Leg(leg) => leg.state,
            other => panic!("{other:?} is no record of a leg"),
        });
        phases.collect()
    }
}

#[tokio::test(start_paused = true)]
async fn a_leg_sends_every_picture_and_ends_with_its_show() {
    let mut bench = Bench::new([], &order());
    bench.play(3).await;
    let platform = bench.platform.clone();
    assert_eq!(bench.end().await, [LegPhase::Dialing, LegPhase::Carrying, LegPhase::Off]);
    // 75 pictures and the header before them.
    assert_eq!((platform.connections(), platform.pictures() >= 75), (1, true), "{}", platform.pictures());
}

#[tokio::test(start_paused = true)]
async fn a_platform_that_hangs_up_is_dialed_again() {
    let mut bench = Bench::new([Manner::HangsUp(10), Manner::Away], &order());
    bench.play(20).await;
    assert!(bench.reaches(LegPhase::Carrying).await);
    let record = bench.leg.status.snapshot().record;
    assert!(record.redial_count >= 2 && record.sent_frame_count > 100, "{record:?}");
    let platform = bench.platform.clone();
    bench.end().await;
    assert_eq!(platform.connections(), 2, "the one that could not be reached made none");
}

#[tokio::test(start_paused = true)]
async fn a_refusal_is_told_in_the_platforms_words_and_tried_again() {
    let mut bench = Bench::new([Manner::Refuses], &order());
    bench.play(1).await;
    assert!(bench.reaches(LegPhase::Refused).await);
    let reason = bench.leg.status.snapshot().record.reason.unwrap();
    assert!(reason.contains("the platform said") && reason.contains("not now"), "{reason}");
    bench.play(60).await;
    assert!(bench.reaches(LegPhase::Carrying).await);
    bench.end().await;
}

#[tokio::test(start_paused = true)]
async fn orders_are_followed_in_mid_show() {
    let mut bench = Bench::new([], &order());
    bench.play(2).await;
    bench.leg.orders.send_modify(|order| order.is_on = false);
    assert!(bench.reaches(LegPhase::Off).await);
    let before = bench.platform.pictures();
    bench.play(3).await;
    assert_eq!(bench.platform.pictures(), before, "nothing goes while it is off");
    bench.leg.orders.send_modify(|order| order.is_on = true);
    bench.play(2).await;
    assert!(bench.reaches(LegPhase::Carrying).await);
    assert_eq!(bench.leg.status.snapshot().record.dropped_frame_count, 0, "what was not to be sent is not missed");
    // What the same connection can do costs none.
    bench.leg.orders.send_modify(|order| order.batch = Duration::from_millis(50));
    bench.play(1).await;
    bench.leg.orders.send_modify(|order| order.destination.key = Secret::new("anchor"));
    bench.play(2).await;
    assert_eq!(bench.platform.connections(), 3, "on again, and with the new key");
    bench.end().await;
}

#[tokio::test(start_paused = true)]
async fn a_leg_that_is_to_start_later_or_is_held_back_waits_and_says_why() {
    let mut bench = Bench::new([], &LegOrder { start_after: Duration::from_secs(5), ..order() });
    bench.play(2).await;
    let snapshot = bench.leg.status.snapshot();
    assert_eq!((snapshot.record.state, bench.platform.connections()), (LegPhase::Off, 0));
    assert_eq!(snapshot.record.reason.as_deref(), Some("it starts 5 s after the show"));
    bench.leg.orders.send_modify(|order| order.held_back = Some("too fast".to_owned()));
    bench.play(8).await;
    assert_eq!(bench.platform.connections(), 0);
    let reason = bench.leg.status.snapshot().record.reason.unwrap();
    assert!(reason.contains("limits sheet") && reason.contains("too fast"), "{reason}");
    bench.leg.orders.send_modify(|order| order.held_back = None);
    assert!(bench.reaches(LegPhase::Carrying).await);
    bench.end().await;
}

#[tokio::test(start_paused = true)]
async fn a_platform_that_reads_nothing_is_given_up() {
    let mut bench = Bench::new([Manner::Stalls], &order());
    for _ in 0..60 {
        bench.play(1).await;
        if bench.platform.connections() > 1 {
            break;
        }
    }
    assert!(bench.platform.connections() > 1, "{:?}", bench.leg.status.snapshot().record);
    assert!(bench.reaches(LegPhase::Carrying).await);
    bench.end().await;
}
