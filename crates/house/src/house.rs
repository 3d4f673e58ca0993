//! The house: channels, keys and destinations as they are now, the sessions on air, and the
//! gate between publishers and sessions.

mod acquaintances;
mod callers;
mod counts;
mod directory;
mod ledger;
mod orders;
mod passwords;
mod sheet;
mod slates;

use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use parking_lot::{Mutex, RwLock};
use time::OffsetDateTime;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;
use waverant_relay::{
    Admission, Attempt, ChannelEntry, IntakeKind, KeyRight, NotJoined, Standing, TurnAway, TurnAwayReason, printable,
};
use waverant_store::{Store, StoreError, TurnedAway};

pub(crate) use acquaintances::Acquaintances;
pub(crate) use callers::{Callers, Notice};
pub(crate) use counts::Counts;
pub(crate) use directory::{ChannelRules, Directory};
pub(crate) use ledger::{Entry, Ledger};
pub(crate) use orders::LegOrder;
pub(crate) use sheet::SheetForm;
pub(crate) use slates::{MAX_SLATE_BYTES, SlateShelf, read_slate};

use crate::library::Library;
use crate::recorder::RecordingsFolder;
use crate::show::{Arrival, Seat, Show, ShowStart};
use waverant_net::caller_of;

/// State shared by all listeners, sessions and API calls.
#[derive(Debug)]
pub(crate) struct House {
    pub(crate) store: Store,
    pub(crate) ledger: Ledger,
    /// Where takes are.
    pub(crate) recordings: Arc<RecordingsFolder>,
    pub(crate) library: Arc<Library>,
    /// Where what is sent later waits.
    pub(crate) spool_folder: PathBuf,
    pub(crate) slates: Arc<SlateShelf>,
    /// Cancelled when the service stops.
    pub(crate) stopping: CancellationToken,
    pub(crate) tasks: TaskTracker,
    pub(crate) counts: Counts,
    pub(crate) callers: Callers,
    acquaintances: Acquaintances,
    directory: RwLock<Arc<Directory>>,
    /// True while something may be written that the directory does not know.
    is_stale: AtomicBool,
    /// Held while the directory is read anew, so that an older reading never replaces a newer one.
    reloading: tokio::sync::Mutex<()>,
    shows: Mutex<HashMap<u64, Arc<Show>>>,
    last_session: AtomicU64,
}

/// How often the house looks after what changes by itself.
const LOOK_INTERVAL: Duration = Duration::from_millis(500);

/// What is kept of the words about who was turned away, in characters.
const MAX_DETAIL: usize = 300;

/// What is kept of what an encoder calls itself.
const MAX_ENCODER: usize = 80;

/// What a publisher or player shows at the door.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Presented<'a> {
    /// The path part of the address that it dialed.
    pub(crate) app: &'a str,
    /// The stream name.
    pub(crate) name: &'a str,
    /// The whole address, as it says.
    pub(crate) tc_url: &'a str,
}

/// Why a player gets nothing.
#[derive(Debug)]
pub(crate) enum WatchRefusal {
    /// It may not watch.
    TurnedAway(TurnAway),
    /// There is nothing to watch.
    OffAir,
}

impl House {
    pub(crate) async fn open(
        store: Store,
        ledger: Ledger,
        recordings: RecordingsFolder,
        undo_time: Duration,
        state_folder: &Path,
    ) -> Result<Arc<Self>, StoreError> {
        let directory = Directory::load(&store).await?;
        let last_session = store.last_session_id().await?;
        let acquaintances = Acquaintances::default();
        for address in store.recent_publisher_addresses().await? {
            acquaintances.note(caller_of(address), Instant::now());
        }
        let (recordings, stopping) = (Arc::new(recordings), CancellationToken::new());
        let library = Library::new(
            store.clone(),
            recordings.clone(),
            state_folder,
            undo_time,
            ledger.take_news.clone(),
            stopping.clone(),
        );
        Ok(Arc::new(Self {
            store: store.clone(),
            ledger,
            library: Arc::new(library),
            recordings,
            spool_folder: state_folder.join("spool"),
            slates: Arc::new(SlateShelf::new(state_folder.join("slates"))),
            stopping,
            tasks: TaskTracker::new(),
            counts: Counts::default(),
            callers: Callers::default(),
            acquaintances,
            directory: RwLock::new(Arc::new(directory)),
            is_stale: AtomicBool::new(false),
            reloading: tokio::sync::Mutex::new(()),
            shows: Mutex::new(HashMap::new()),
            last_session: AtomicU64::new(last_session),
        }))
    }

    /// Channels, keys and destinations as they were last read.
    pub(crate) fn directory(&self) -> Arc<Directory> {
        self.directory.read().clone()
    }

    /// Reads channels, keys and destinations anew and makes running sessions follow: legs are
    /// added, removed, switched or moved, and a publisher whose key was withdrawn is ended.
    pub(crate) async fn reload(self: &Arc<Self>) -> Result<(), StoreError> {
        // Until it is read, somebody sees to it.
        self.is_stale.store(true, Ordering::Release);
        let _turn = self.reloading.lock().await;
        self.is_stale.store(false, Ordering::Release);
        let loaded = Directory::load(&self.store).await;
        let directory = Arc::new(loaded.inspect_err(|_| self.is_stale.store(true, Ordering::Release))?);
        *self.directory.write() = directory.clone();
        for show in self.shows() {
            show.follow(self, &directory);
        }
        // Other rules may keep less.
        self.library.tell_news();
        Ok(())
    }

    /// Looks after what changes by itself until the service stops: keys whose time is over, and changes that
    /// are written and could not be read back.
    pub(crate) async fn look_after(self: Arc<Self>) {
        let mut ticks = tokio::time::interval(LOOK_INTERVAL);
        ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        loop {
            tokio::select! {
                _ = ticks.tick() => {}
                () = self.stopping.cancelled() => return,
            }
            let (directory, now) = (self.directory(), OffsetDateTime::now_utc());
            self.shows().iter().for_each(|show| show.check_keys(&directory, now));
            if self.is_stale.load(Ordering::Acquire)
                && let Err(error) = self.reload().await
            {
                tracing::debug!(%error, "the directory is read anew later");
            }
        }
    }

    /// The sessions that are on air or holding.
    pub(crate) fn shows(&self) -> Vec<Arc<Show>> {
        self.shows.lock().values().cloned().collect()
    }

    /// The session of a channel.
    pub(crate) fn show(&self, channel_id: u64) -> Option<Arc<Show>> {
        self.shows.lock().get(&channel_id).cloned()
    }

    /// Judges a publisher; lets it into a new session, or into one that waits for it.
    /// `shown_key` is the number of the key that the connection showed by its password.
    pub(crate) fn admit(
        self: &Arc<Self>,
        arrival: Arrival,
        presented: &Presented<'_>,
        shown_key: Option<u64>,
    ) -> Result<Seat, TurnAway> {
        let directory = self.directory();
        let now = OffsetDateTime::now_utc();
        let admission = match shown_key {
            Some(id) => directory.gate.decide_shown(id, (arrival.peer.ip(), KeyRight::Publish), now)?,
            None => self.judge(arrival.peer, presented, KeyRight::Publish)?,
        };
        self.let_in(arrival, admission)
    }

    /// Lets a publisher that was judged into a new session, or into one that waits for it.
    pub(crate) fn let_in(self: &Arc<Self>, mut arrival: Arrival, mut admission: Admission) -> Result<Seat, TurnAway> {
        arrival.encoder = printable(&arrival.encoder, MAX_ENCODER).into_owned();
        admission.finding = admission.finding.map(|finding| printable(&finding, MAX_DETAIL).into_owned());
        let directory = self.directory();
        let now = OffsetDateTime::now_utc();
        let turn_away = |reason| TurnAway {
            reason,
            key_prefix: Some(admission.key_prefix.clone()),
            channel_id: Some(admission.channel.id),
        };
        if self.stopping.is_cancelled() {
            return Err(turn_away(TurnAwayReason::Stopping));
        }
        let rules = directory.channel(admission.channel.id).ok_or_else(|| turn_away(TurnAwayReason::UnknownKey))?;
        self.acquaintances.note(caller_of(arrival.peer.ip()), Instant::now());
        let mut shows = self.shows.lock();
        if let Some(show) = shows.get(&rules.id)
            && !show.is_over()
        {
            match show.join(&admission, arrival.clone()) {
                Ok(seat) => return Ok(seat),
                Err(NotJoined::Busy) => return Err(turn_away(TurnAwayReason::ChannelBusy)),
                // It ended just now: the publisher begins the next one.
                Err(NotJoined::Over) => {}
            }
        }
        let busy = turn_away(TurnAwayReason::ChannelBusy);
        let start = ShowStart {
            id: self.last_session.fetch_add(1, Ordering::Relaxed) + 1,
            rules: rules.clone(),
            admission,
            arrival,
            started_at: now,
            rehearsal: None,
        };
        let (show, seat) = Show::begin(self, start).ok_or(busy)?;
        shows.insert(show.channel.id, show);
        Ok(seat)
    }

    /// Begins a session that is fed from here, with legs of its own. None if the channel is busy.
    pub(crate) fn rehearse(self: &Arc<Self>, rules: &ChannelRules, legs: Vec<LegOrder>) -> Option<(Arc<Show>, Seat)> {
        let mut shows = self.shows.lock();
        if self.stopping.is_cancelled() || shows.get(&rules.id).is_some_and(|show| !show.is_over()) {
            return None;
        }
        let admission = Admission {
            channel: ChannelEntry { id: rules.id, name: rules.name.to_string() },
            key_id: 0,
            key_rank: 0,
            key_label: "rehearsal".to_owned(),
            key_prefix: String::new(),
            finding: None,
        };
        let start = ShowStart {
            id: self.last_session.fetch_add(1, Ordering::Relaxed) + 1,
            rules: rules.clone(),
            admission,
            arrival: Arrival {
                peer: SocketAddr::from((Ipv4Addr::LOCALHOST, 0)),
                encoder: "test picture".to_owned(),
                intake: IntakeKind::Messages,
            },
            started_at: OffsetDateTime::now_utc(),
            rehearsal: Some(legs),
        };
        let begun = Show::begin(self, start)?;
        shows.insert(rules.id, begun.0.clone());
        Some(begun)
    }

    /// Judges a player; gives it the session that it may watch, and the number of its key.
    pub(crate) fn watch(
        &self,
        peer: SocketAddr,
        presented: &Presented<'_>,
        shown_key: Option<u64>,
    ) -> Result<(Arc<Show>, u64), WatchRefusal> {
        let directory = self.directory();
        let admission = match shown_key {
            Some(id) => directory.gate.decide_shown(id, (peer.ip(), KeyRight::View), OffsetDateTime::now_utc()),
            None => self.judge(peer, presented, KeyRight::View),
        };
        let admission = admission.map_err(WatchRefusal::TurnedAway)?;
        let show = self.show(admission.channel.id).filter(|show| !show.is_over()).ok_or(WatchRefusal::OffAir)?;
        Ok((show, admission.key_id))
    }

    /// Looks for a key in what is presented, and judges it.
    pub(crate) fn judge(
        &self,
        peer: SocketAddr,
        presented: &Presented<'_>,
        right: KeyRight,
    ) -> Result<Admission, TurnAway> {
        let Presented { app, name, tc_url } = *presented;
        let attempt = Attempt { address: peer.ip(), right, app, name, tc_url };
        let digest = |key: &str| self.store.keychain().digest(key);
        self.directory().gate.decide(&attempt, OffsetDateTime::now_utc(), digest)
    }

    /// What a caller of this address is worth when the doors are crowded.
    pub(crate) fn standing(&self, address: IpAddr) -> Standing {
        let caller = caller_of(address);
        if self.acquaintances.has(caller) || self.directory().gate.expects(address) {
            return Standing::Known;
        }
        self.callers.standing(caller, Instant::now())
    }

    /// Forgets a session that is over, unless a newer one has taken its place.
    pub(crate) fn forget(&self, show: &Arc<Show>) {
        let mut shows = self.shows.lock();
        if shows.get(&show.channel.id).is_some_and(|current| Arc::ptr_eq(current, show)) {
            shows.remove(&show.channel.id);
        }
    }

    /// Notes who was not let in.
    pub(crate) fn note_turned_away(&self, peer: SocketAddr, turn_away: &TurnAway, detail: Option<String>) {
        self.counts.count(turn_away.reason.code());
        let notice = self.callers.note(caller_of(peer.ip()), Instant::now());
        if notice == Notice::Count {
            return;
        }
        let directory = self.directory();
        let channel = turn_away.channel_id.and_then(|id| directory.channel(id));
        let detail = detail.unwrap_or_else(|| turn_away.reason.to_string());
        let mut detail = printable(&detail, MAX_DETAIL).into_owned();
        if notice == Notice::RecordLast {
            detail.push_str(" (more from this address, or of all, are only counted for some seconds)");
        }
        tracing::warn!(%peer, reason = turn_away.reason.code(), detail, key_prefix = turn_away.key_prefix, "turned away");
        self.ledger.write_stranger(TurnedAway {
            at: OffsetDateTime::now_utc(),
            address: peer.to_string(),
            reason: turn_away.reason.code().to_owned(),
            detail,
            key_prefix: turn_away.key_prefix.clone(),
            channel_name: channel.map(|channel| channel.name.to_string()),
        });
    }
}
