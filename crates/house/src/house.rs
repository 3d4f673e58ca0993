use std::fmt;
use std::net::IpAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

use parking_lot::RwLock;
use time::OffsetDateTime;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;
use waverant_calls::{CallClient, MailServer, Postbox, Reachable};
use waverant_codec::CodecPool;
use waverant_library::{Library, LibrarySetup, RecordingsFolder, RuleBook, SlateShelf};
use waverant_net::caller_of;
use waverant_relay::{ChannelRules, Occurrence, OccurrenceKind, Site, Spread, Standing};
use waverant_show::{CheckupBudget, Dialer, RecorderState, SegmentFolder, Show, Surroundings, TcpDialer};
use waverant_store::{Store, StoreError, StoredTake};

use crate::acquaintances::Acquaintances;
use crate::addresses::{AddressBook, Received};
use crate::asking::AskingDesk;
use crate::audience::{Audience, AudienceLimits};
use crate::callers::Callers;
use crate::condition::HouseCondition;
use crate::couriers::{CourierDesk, CourierSetup};
use crate::host::HostFigures;
use crate::interludes::Interludes;
use crate::key_watch::KeyWatch;
use crate::numbers::SessionNumbers;
use crate::posters::PosterShelf;
use crate::publishing::PublishingDesk;
use crate::reached::ReachedBook;
use crate::shows::Shows;
use crate::timelines::TimelineShelf;
use crate::touched::Touched;
use crate::turned_away::TurnedAwayBook;
use crate::turns::Turns;
use crate::{Counts, Directory, FigureDays, Ledger};

/// How often the house looks after what changes by itself.
const LOOK_INTERVAL: Duration = Duration::from_millis(500);

/// How long the database may take for further numbers.
const REFILL_PATIENCE: Duration = Duration::from_secs(2);

/// What a house is opened with.
#[derive(Debug)]
pub struct HouseSetup<'a> {
    /// Its records.
    pub store: Store,
    /// The process of the private database, if there is one.
    pub database_pid: Option<u32>,
    /// Where what happens is written down.
    pub ledger: Ledger,
    /// Where takes are recorded.
    pub recordings: RecordingsFolder,
    /// How long a removed take can be had back.
    pub undo_time: Duration,
    /// Where everything else is kept.
    pub state_folder: &'a Path,
    /// Where calls to other systems may lead.
    pub reachable: Reachable,
    /// Who takes mail for people, and how long mail about what happens is gathered.
    pub mail: (Option<MailServer>, Duration),
    /// Threads for pictures and sound.
    pub codec: CodecPool,
    /// What hearing and seeing shows may take of one processor: 0 to 1 and more.
    pub checkup_share: f64,
    /// How long figures are kept.
    pub figure_days: FigureDays,
    /// For how many days it is kept who did what.
    pub act_days: u32,
    /// How many may watch.
    pub audience: AudienceLimits,
    /// Sites that pages of channels may show beside the player.
    pub slot_sites: Vec<Site>,
    /// The site under which viewers reach the house, if its ports do not tell it.
    pub viewing_site: Option<Site>,
}

/// State shared by all listeners, sessions and calls: the channels as they are now, the sessions that run, who is
/// known and who is rough.
pub struct House {
    pub(crate) store: Store,
    pub(crate) ledger: Ledger,
    library: Arc<Library>,
    pub(crate) slates: Arc<SlateShelf>,
    pub(crate) surroundings: Surroundings,
    pub(crate) shows: Arc<Shows>,
    pub(crate) numbers: SessionNumbers,
    pub(crate) directory: RwLock<Arc<Directory>>,
    pub(crate) touched: Touched,
    pub(crate) asking: Arc<AskingDesk>,
    pub(crate) couriers: Arc<CourierDesk>,
    counts: Counts,
    pub(crate) callers: Callers,
    pub(crate) addresses: AddressBook,
    pub(crate) key_watch: KeyWatch,
    pub(crate) turned_away: Arc<TurnedAwayBook>,
    pub(crate) acquaintances: Acquaintances,
    pub(crate) audience: Audience,
    pub(crate) slot_sites: Vec<Site>,
    viewing_site: Option<Site>,
    pub(crate) posters: Arc<PosterShelf>,
    pub(crate) changing: Turns,
    pub(crate) interludes: Interludes,
    pub(crate) publishing: PublishingDesk,
    pub(crate) condition: HouseCondition,
    pub(crate) timelines: Arc<TimelineShelf>,
    pub(crate) act_days: u32,
    segments: SegmentFolder,
}

impl fmt::Debug for House {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.debug_struct("House").finish_non_exhaustive()
    }
}

impl House {
    /// Opens the house: reads its channels, and begins to keep its library.
    ///
    /// # Errors
    /// [`StoreError`] if the database does not answer.
    pub async fn open(setup: HouseSetup<'_>) -> Result<Arc<Self>, StoreError> {
        let HouseSetup { store, ledger, recordings, state_folder, codec, .. } = setup;
        let directory = Directory::load(&store).await?;
        let segments = empty_segments(state_folder, recordings.floor_bytes).await;
        let (recordings, stopping) = (Arc::new(recordings), CancellationToken::new());
        let library_setup = LibrarySetup {
            recordings: recordings.clone(),
            state_folder,
            undo_time: setup.undo_time,
            news: ledger.take_news.clone(),
            codec: codec.clone(),
            stopping: stopping.clone(),
        };
        let library = Arc::new(Library::new(store.clone(), library_setup));
        let slates = Arc::new(SlateShelf::new(state_folder.join("slates")));
        let timelines = open_timelines(state_folder, setup.figure_days).await;
        let shows = Arc::new(Shows::new(ledger.clone(), timelines.clone()));
        let surroundings = surroundings(
            &ledger,
            &shows,
            (recordings, &library),
            &slates,
            (codec, setup.checkup_share, stopping),
            state_folder,
        );
        let (asking, couriers) = callers_out((&store, &ledger), setup.reachable, setup.mail, &surroundings).await?;
        let house = Arc::new(Self {
            numbers: SessionNumbers::open(&store).await?,
            acquaintances: recent_acquaintances(&store).await?,
            addresses: AddressBook::load(&store).await?,
            store,
            ledger,
            library,
            slates,
            surroundings,
            shows,
            directory: RwLock::new(Arc::new(directory)),
            touched: Touched::default(),
            asking,
            couriers,
            counts: Counts::default(),
            callers: Callers::default(),
            key_watch: KeyWatch::default(),
            turned_away: Arc::default(),
            audience: Audience::new(setup.audience),
            slot_sites: setup.slot_sites,
            viewing_site: setup.viewing_site,
            posters: Arc::new(PosterShelf::new(state_folder.join("posters"))),
            changing: Turns::default(),
            interludes: Interludes::default(),
            publishing: PublishingDesk::default(),
            condition: HouseCondition::default(),
            timelines,
            act_days: setup.act_days,
            segments,
        });
        house.begin(setup.database_pid);
        Ok(house)
    }

    /// Begins what goes on until the service stops.
    fn begin(self: &Arc<Self>, database_pid: Option<u32>) {
        let rules: Arc<dyn RuleBook> = self.clone();
        self.tasks().spawn(waverant_library::keep(self.library.clone(), rules));
        self.tasks().spawn(self.clone().follow_changes());
        self.tasks().spawn(self.clone().look_after());
        let book = self.turned_away.clone();
        self.tasks().spawn(book.keep(self.store.clone(), self.ledger.clone(), self.stopping().clone()));
        let book = self.condition.reached.clone();
        self.tasks().spawn(book.keep(self.store.clone(), self.stopping().clone()));
        self.tasks().spawn(self.clone().keep_viewer_minutes());
        self.tasks().spawn(self.clone().judge_itself(database_pid));
        self.tasks().spawn(self.clone().keep_timelines());
        self.tasks().spawn(self.clone().note_seconds());
        self.tasks().spawn(self.couriers.clone().run());
    }

    /// Channels, keys and destinations as they are now.
    pub fn directory(&self) -> Arc<Directory> {
        self.directory.read().clone()
    }

    /// The records, to be read; changes go through the house.
    pub fn store(&self) -> &Store {
        &self.store
    }

    /// Where segments go that are too old for memory.
    pub fn segments(&self) -> &SegmentFolder {
        &self.segments
    }

    /// The takes.
    pub fn library(&self) -> &Arc<Library> {
        &self.library
    }

    /// Who from out there was at its doors.
    pub fn reached(&self) -> &ReachedBook {
        &self.condition.reached
    }

    /// How often something was refused, by reason.
    pub fn counts(&self) -> &Counts {
        &self.counts
    }

    /// Cancelled when the service stops.
    pub fn stopping(&self) -> &CancellationToken {
        &self.surroundings.stopping
    }

    /// The tasks that a stop waits for.
    pub fn tasks(&self) -> &TaskTracker {
        &self.surroundings.tasks
    }

    /// What hearing and seeing shows may take of the processor.
    pub fn checkup_budget(&self) -> &CheckupBudget {
        &self.surroundings.checkup
    }

    /// Who draws and encodes.
    pub fn codec(&self) -> &CodecPool {
        &self.surroundings.codec
    }

    /// Sites that pages of channels may show beside the player.
    pub fn slot_sites(&self) -> &[Site] {
        &self.slot_sites
    }

    /// The site under which viewers reach the house, if its ports do not tell it.
    pub fn viewing_site(&self) -> Option<&Site> {
        self.viewing_site.as_ref()
    }

    /// Where the poster of a channel lies, if it has one.
    pub fn poster_path(&self, channel_id: u64) -> PathBuf {
        self.posters.path(channel_id)
    }

    /// The sessions that are on air or holding, or whose delayed legs play on.
    pub fn shows(&self) -> Vec<Arc<Show>> {
        self.shows.all()
    }

    /// The session of a channel.
    pub fn show(&self, channel_id: u64) -> Option<Arc<Show>> {
        self.shows.of_channel(channel_id)
    }

    /// What a caller of this address is worth when the doors are crowded.
    pub fn standing(&self, address: IpAddr) -> Standing {
        let caller = caller_of(address);
        match self.addresses.received(address) {
            Received::Welcome => return Standing::Known,
            Received::Blocked(_) => return Standing::Blocked,
            Received::AsAnybody => {}
        }
        if self.acquaintances.has(caller) || self.directory().gate().expects(address) {
            return Standing::Known;
        }
        self.callers.standing(caller, Instant::now())
    }

    /// Whether a caller of this address is heard: one of a blocked address only so often in a second, so that who has a
    /// right key gets through among others.
    pub fn hears(&self, address: IpAddr) -> bool {
        self.addresses.hears(address)
    }

    /// True if nothing but what is right opens for callers of this address.
    pub fn is_blocked(&self, address: IpAddr) -> bool {
        matches!(self.addresses.received(address), Received::Blocked(_))
    }

    /// True if people blocked this address.
    pub fn is_shut_out(&self, address: IpAddr) -> bool {
        self.addresses.is_shut_out(address)
    }

    /// How far legs are behind their shows.
    pub fn leg_lags(&self) -> Spread {
        self.surroundings.lags.spread()
    }

    /// How long the database takes for records.
    pub fn write_times(&self) -> Spread {
        self.ledger.write_times.spread()
    }

    /// True if the database answered when it was last asked, a second ago.
    pub fn database_answers(&self) -> bool {
        self.condition.database_answers.load(Ordering::Relaxed)
    }

    /// The machine; none until it was looked at.
    pub fn host(&self) -> Option<HostFigures> {
        self.condition.host.read().clone()
    }

    /// How long the disk lasts at the rate of what is being recorded now. None if nothing is.
    pub fn recording_time_left(&self) -> Option<Duration> {
        self.library.outlook()?.time_left(self.recording_bps())
    }

    /// Says that nothing more happens, closes the records when all is written, or lies on the disk.
    pub async fn close_records(&self, ledger_task: tokio::task::JoinHandle<()>, patience: Duration) {
        self.write_key_uses(OffsetDateTime::now_utc());
        self.ledger.close();
        self.close_timelines().await;
        if tokio::time::timeout(patience, ledger_task).await.is_err() {
            tracing::error!("some records could not be written in time");
        }
    }

    /// Looks after what changes by itself until the service stops: keys whose time is over, and numbers that run out.
    async fn look_after(self: Arc<Self>) {
        let mut ticks = tokio::time::interval(LOOK_INTERVAL);
        ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        loop {
            tokio::select! {
                _ = ticks.tick() => {}
                () = self.stopping().cancelled() => return,
            }
            let (directory, now) = (self.directory(), OffsetDateTime::now_utc());
            let shows = self.shows();
            shows.iter().for_each(|show| show.check_keys(directory.gate(), now));
            self.interludes.remember(&shows, &directory);
            self.interludes.sweep();
            self.look_after_audience();
            self.look_after_keys(now);
            // What else is looked after waits for nobody.
            let refilled = tokio::time::timeout(REFILL_PATIENCE, self.numbers.refill(&self.store)).await;
            if let Err(error) = refilled.unwrap_or(Err(StoreError::Slow)) {
                tracing::debug!(%error, "numbers for sessions are fetched later");
            }
        }
    }
}

/// What shows work with.
fn surroundings(
    ledger: &Ledger,
    shows: &Arc<Shows>,
    (recordings, library): (Arc<RecordingsFolder>, &Library),
    slates: &Arc<SlateShelf>,
    (codec, checkup_share, stopping): (CodecPool, f64, CancellationToken),
    state_folder: &Path,
) -> Surroundings {
    let dialer: Arc<dyn Dialer> = Arc::new(TcpDialer);
    Surroundings {
        ledger: Arc::new(ledger.clone()),
        registry: shows.clone(),
        disk: recordings,
        take_numbers: library.numbers().clone(),
        slates: slates.clone(),
        codec,
        checkup: Arc::new(CheckupBudget::new(checkup_share)),
        lags: Arc::default(),
        dialer,
        spool_folder: state_folder.join("spool"),
        stopping,
        tasks: TaskTracker::new(),
    }
}

/// Who asks other systems, and who tells them what happens.
async fn callers_out(
    (store, ledger): (&Store, &Ledger),
    reachable: Reachable,
    (server, digest): (Option<MailServer>, Duration),
    surroundings: &Surroundings,
) -> Result<(Arc<AskingDesk>, Arc<CourierDesk>), StoreError> {
    ledger.telling.set_targets(store.call_targets().await?);
    let client = CallClient::new(reachable);
    let asking = Arc::new(AskingDesk::new(client.clone()));
    let couriers = CourierDesk::new(CourierSetup {
        store: store.clone(),
        client,
        postbox: Postbox::new(server),
        digest,
        telling: ledger.telling.clone(),
        news: ledger.call_news.clone(),
        stopping: surroundings.stopping.clone(),
        tasks: surroundings.tasks.clone(),
    });
    Ok((asking, Arc::new(couriers)))
}

/// A file is read for it.
async fn open_timelines(state_folder: &Path, days: FigureDays) -> Arc<TimelineShelf> {
    let folder = state_folder.to_owned();
    let opened = tokio::task::spawn_blocking(move || TimelineShelf::open(&folder, days)).await;
    Arc::new(opened.unwrap_or_else(|_| TimelineShelf::open(state_folder, days)))
}

/// What an earlier start left behind is of no use.
async fn empty_segments(state_folder: &Path, floor_bytes: u64) -> SegmentFolder {
    let segments = SegmentFolder::new(state_folder.join("window"), floor_bytes);
    let old = segments.clone();
    let cleared = tokio::task::spawn_blocking(move || old.clear()).await;
    if let Ok(Err(error)) = cleared {
        tracing::warn!(%error, "old segments of an earlier start stay on the disk");
    }
    segments
}

/// Those who published lately.
async fn recent_acquaintances(store: &Store) -> Result<Acquaintances, StoreError> {
    let acquaintances = Acquaintances::default();
    for address in store.recent_publisher_addresses().await? {
        acquaintances.note(caller_of(address), Instant::now());
    }
    Ok(acquaintances)
}

impl RuleBook for House {
    fn channels(&self) -> Vec<Arc<ChannelRules>> {
        self.directory().channels().cloned().collect()
    }

    fn recording_bps(&self) -> f64 {
        let is_recorded = |state: RecorderState| matches!(state, RecorderState::Recording | RecorderState::Waiting);
        let shows = self.shows();
        let recorded = shows.iter().filter(|show| is_recorded(show.recorder().state().0));
        recorded.map(|show| show.bitrate_bps()).sum()
    }

    fn take_copied(&self, take: &StoredTake, depot: &str, outcome: Result<(), &str>) {
        let (session, number) = (take.record.session_id, take.record.number);
        let (kind, how) = match outcome {
            Ok(()) => (OccurrenceKind::TakeCopied, format!("is copied to {depot}")),
            Err(error) => (OccurrenceKind::TakeNotCopied, format!("is not copied to {depot} yet: {error}")),
        };
        let name = &take.channel_name;
        let text = format!("{name}: take {number} {how}: {}", take.record.path);
        let happened = Occurrence::new(kind, OffsetDateTime::now_utc(), text);
        let directory = self.directory();
        let channel = directory.channel_named(name);
        let happened = channel
            .into_iter()
            .fold(happened, |happened, rules| happened.in_channel(rules.id, name))
            .to(format!("session/{session}/take/{number}"))
            .with("session", session)
            .with("take", number)
            .with("path", take.record.path.as_str())
            .with("depot", depot);
        self.ledger.tell_others(outcome.err().into_iter().fold(happened, |happened, why| happened.with("reason", why)));
    }
}
