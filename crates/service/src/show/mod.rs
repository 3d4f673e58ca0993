//! A running session: its hub, its publisher's seat, its legs and its recorder.

mod seat;
mod snapshot;
mod supervise;
mod viewer;

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Instant;

use parking_lot::Mutex;
use time::OffsetDateTime;
use tokio::sync::{Notify, watch};
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;
use waverant_relay::{Admission, Hub, HubLimits, RtmpSource, SessionLife, SessionState};
use waverant_store::{NewSession, TakeRecord};

pub(crate) use seat::Seat;
pub(crate) use snapshot::SourceSnapshot;
pub(crate) use viewer::Viewer;

use crate::house::{ChannelRules, Directory, Entry, House, LegOrder};
use crate::leg::LegStatus;
use seat::SourceMeters;

/// What a session begins with.
#[derive(Debug)]
pub(crate) struct ShowStart {
    pub(crate) id: u64,
    pub(crate) rules: ChannelRules,
    pub(crate) admission: Admission,
    pub(crate) peer: SocketAddr,
    pub(crate) encoder: String,
    pub(crate) started_at: OffsetDateTime,
}

/// Who publishes into a session.
#[derive(Clone, Debug)]
pub(crate) struct Publisher {
    pub(crate) key_id: u64,
    pub(crate) key_label: String,
    pub(crate) peer: SocketAddr,
    /// What was odd about its coming in, and harmless.
    pub(crate) finding: Option<String>,
    /// Cancelled to end this publisher from our side.
    pub(crate) evicted: CancellationToken,
}

/// A leg as its session holds it.
#[derive(Debug)]
pub(crate) struct LegHandle {
    pub(crate) orders: watch::Sender<LegOrder>,
    pub(crate) status: Arc<LegStatus>,
    pub(crate) task: JoinHandle<()>,
}

/// A running session.
#[derive(Debug)]
pub(crate) struct Show {
    pub(crate) id: u64,
    pub(crate) channel: ChannelRules,
    pub(crate) started_at: OffsetDateTime,
    pub(crate) encoder: String,
    /// The packets. Held for moments only, never across an await.
    pub(crate) hub: Mutex<Hub>,
    /// Wakes readers of the hub.
    pub(crate) news: Notify,
    /// Counts what is new in the hub, so that readers can look without its lock.
    news_count: AtomicU64,
    viewer_count: AtomicU64,
    /// Cancelled when the session is over and its last packet is in the hub.
    pub(crate) over: CancellationToken,
    pub(crate) takes: Mutex<Vec<TakeRecord>>,
    pub(crate) legs: Mutex<BTreeMap<u64, LegHandle>>,
    source: Mutex<RtmpSource>,
    meters: Mutex<SourceMeters>,
    life: Mutex<SessionLife>,
    life_changed: Notify,
    publisher: Mutex<Publisher>,
    end_reason: Mutex<Option<String>>,
}

impl Show {
    /// Begins a session with its first publisher, and starts its legs and recorder.
    pub(crate) fn begin(house: &Arc<House>, start: ShowStart) -> (Arc<Self>, Seat) {
        let now = Instant::now();
        let publisher = Publisher {
            key_id: start.admission.key_id,
            key_label: start.admission.key_label,
            peer: start.peer,
            finding: start.admission.finding,
            evicted: CancellationToken::new(),
        };
        house.ledger.write(Entry::SessionBegan(NewSession {
            id: start.id,
            channel_id: start.rules.id,
            channel_name: start.rules.name.to_string(),
            key_label: publisher.key_label.clone(),
            publisher_address: start.peer.to_string(),
            encoder: start.encoder.clone(),
            started_at: start.started_at,
        }));
        tracing::info!(session = start.id, channel = %start.rules.name, peer = %start.peer, "on air");
        let show = Arc::new(Self {
            id: start.id,
            life: Mutex::new(SessionLife::new(now, start.rules.hold)),
            channel: start.rules,
            started_at: start.started_at,
            encoder: start.encoder,
            hub: Mutex::new(Hub::new(HubLimits::default())),
            news: Notify::new(),
            news_count: AtomicU64::new(0),
            viewer_count: AtomicU64::new(0),
            over: CancellationToken::new(),
            takes: Mutex::new(Vec::new()),
            legs: Mutex::new(BTreeMap::new()),
            source: Mutex::new(RtmpSource::new()),
            meters: Mutex::new(SourceMeters::new(now)),
            life_changed: Notify::new(),
            publisher: Mutex::new(publisher.clone()),
            end_reason: Mutex::new(None),
        });
        show.follow(house, &house.directory());
        house.tasks.spawn(supervise::run(show.clone(), house.clone()));
        let seat = Seat::new(show.clone(), publisher.evicted);
        (show, seat)
    }

    /// Lets a publisher back into a session that waits for one; None if somebody sits there.
    pub(crate) fn seat_returning(self: &Arc<Self>, admission: &Admission, peer: SocketAddr) -> Option<Seat> {
        let now = Instant::now();
        let gap = {
            let mut life = self.life.lock();
            let lost_at = life.since();
            if !life.publisher_returned(now) {
                return None;
            }
            now.saturating_duration_since(lost_at)
        };
        let evicted = CancellationToken::new();
        *self.publisher.lock() = Publisher {
            key_id: admission.key_id,
            key_label: admission.key_label.clone(),
            peer,
            finding: admission.finding.clone(),
            evicted: evicted.clone(),
        };
        self.source.lock().resume_after(gap);
        self.life_changed.notify_one();
        tracing::info!(session = self.id, channel = %self.channel.name, %peer, ?gap, "the publisher is back");
        Some(Seat::new(self.clone(), evicted))
    }

    /// How often there was news; a reader that saw another number has something to read.
    pub(crate) fn news_count(&self) -> u64 {
        self.news_count.load(Ordering::Acquire)
    }

    /// Tells readers that the hub holds something new, or has ended.
    fn tell_news(&self) {
        self.news_count.fetch_add(1, Ordering::Release);
        self.news.notify_waiters();
    }

    pub(crate) fn is_over(&self) -> bool {
        self.life.lock().state() == SessionState::Over
    }

    /// Why the session ended, or what to say where nobody said.
    pub(crate) fn end_reason(&self) -> String {
        self.end_reason.lock().clone().unwrap_or_else(|| "the session was ended".to_owned())
    }

    pub(crate) fn publisher(&self) -> Publisher {
        self.publisher.lock().clone()
    }

    /// Makes legs follow the directory, and ends a publisher whose key is gone.
    pub(crate) fn follow(self: &Arc<Self>, house: &Arc<House>, directory: &Directory) {
        if self.over.is_cancelled() {
            return;
        }
        self.follow_orders(house, directory.orders(self.channel.id));
        let publisher = self.publisher();
        if !directory.has_key(publisher.key_id) && !publisher.evicted.is_cancelled() {
            self.note_end("the stream key was withdrawn");
            publisher.evicted.cancel();
        }
    }

    fn follow_orders(self: &Arc<Self>, house: &Arc<House>, orders: &[LegOrder]) {
        let mut legs = self.legs.lock();
        for (id, leg) in legs.iter() {
            if !orders.iter().any(|order| order.destination.id == *id) {
                leg.orders.send_if_modified(|order| std::mem::replace(&mut order.switched_on, false));
            }
        }
        for order in orders {
            match legs.get(&order.destination.id) {
                Some(leg) => {
                    leg.orders.send_if_modified(|current| {
                        let changed = current != order;
                        current.clone_from(order);
                        changed
                    });
                }
                None => {
                    legs.insert(order.destination.id, crate::leg::start(self.clone(), house.ledger.clone(), order));
                }
            }
        }
    }

    /// Ends the session from our side: the publisher is told, legs and recorder finish.
    pub(crate) fn end(&self, reason: &str) {
        self.note_end(reason);
        self.publisher().evicted.cancel();
        self.life.lock().end(Instant::now());
        self.life_changed.notify_one();
    }

    /// The first reason stays.
    fn note_end(&self, reason: &str) {
        self.end_reason.lock().get_or_insert_with(|| reason.to_owned());
    }
}
