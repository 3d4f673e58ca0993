use std::collections::{BTreeSet, VecDeque};
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use futures_util::future::try_join_all;
use tokio::time::{Instant, sleep};
use tokio_util::task::AbortOnDropHandle;
use waverant_container::PieceName;
use waverant_house::Publishing;
use waverant_library::{DepotError, LiveDepot, ObjectKind};
use waverant_media::{MediaTime, TrackId, TrackKind};
use waverant_relay::{ChannelRules, Found, OutsideShow, PublishedTo, WholeSegment};
use waverant_show::{Packaging, Show};

use super::depot_now;
use crate::ViewingState;
use crate::hls::{AUDIO, PLAYLIST, VIDEO};

/// How long the end of a show may take to get to its viewers when the service stops.
pub(super) const LAST_WORDS: Duration = Duration::from_secs(3);

/// So long nothing new is waited for before it is looked whether this is still wanted.
const LOOK_INTERVAL: Duration = Duration::from_secs(1);

/// The playlist that players are given is written anew this often at most: what it says of the bitrate changes.
const RENEWAL: Duration = Duration::from_secs(10);

/// The pause after a request that failed; it doubles, up to the longest.
const FIRST_PAUSE: Duration = Duration::from_millis(500);
const LONGEST_PAUSE: Duration = Duration::from_secs(8);

/// The pause after something could not be removed.
const REMOVAL_PAUSE: Duration = Duration::from_secs(30);

/// So long what was told stays there behind the end of a show, and so long a depot that is away is waited for then.
const STAY: Duration = Duration::from_secs(60);

/// Further behind the show than this is told as trouble.
const MUCH_BEHIND: time::Duration = time::Duration::seconds(20);

/// What earlier shows left is removed up to so many objects at once.
const MAX_LEFT: usize = 10_000;

/// Old segments that are removed behind each new one: many are not to hold the show up.
const MAX_REMOVALS: usize = 8;

const INDEX: &str = "index.m3u8";

const PLAYLIST_KIND: ObjectKind = ObjectKind { media_type: PLAYLIST, caching: "public, max-age=1" };

/// Sends one session's segments and playlists to a depot: pieces first, playlists behind them, and removes what no
/// player has use for any more. Whatever goes wrong there is told and tried again, and holds nothing up here.
pub(super) struct Outlet {
    state: ViewingState,
    rules: Arc<ChannelRules>,
    session: u64,
    published: PublishedTo,
    status: Publishing,
    /// Let go of once it is packaged: its packets are not to be kept for long behind its end.
    source: Option<Arc<Show>>,
    show: OutsideShow,
    sent: Sent,
    pause: Duration,
}

/// What is there.
#[derive(Default)]
struct Sent {
    run: u64,
    headers: BTreeSet<(TrackId, u64)>,
    segments: BTreeSet<(TrackId, u64)>,
    playlists: BTreeSet<TrackId>,
    index: Option<(Instant, Arc<str>)>,
    /// Segments are there that no playlist tells yet.
    has_untold: bool,
    /// Segments that are to go, oldest first.
    useless: VecDeque<(TrackId, u64)>,
    /// When that is tried again after it failed, and why it did.
    remove_again_at: Option<Instant>,
    removal_fault: Option<String>,
}

/// How an outlet's work came to its end.
enum End {
    /// The show is over, and all of it is there.
    Show,
    /// It is not wanted any more.
    Unwanted,
    /// The service stops.
    Stop,
}

impl Outlet {
    pub(super) fn new(state: ViewingState, rules: Arc<ChannelRules>, show: Arc<Show>, published: PublishedTo) -> Self {
        let public = published.public_address.as_deref();
        let address = public.map(|address| LiveDepot::playlist_address(address, rules.name.as_str()));
        let depot = published.depot.clone();
        let status = Publishing { depot, address, told_until: None, sent_bytes: 0, fault: None };
        let window = MediaTime::from_duration(rules.viewing.back);
        let (session, source) = (show.id(), Some(show));
        let (show, sent) = (OutsideShow::new(window), Sent::default());
        Self { state, rules, session, published, status, source, show, sent, pause: FIRST_PAUSE }
    }

    pub(super) async fn run(mut self) {
        let (channel, depot) = (self.rules.name.clone(), self.status.depot.clone());
        tracing::info!(session = self.session, %channel, depot, "the show is published");
        self.tell();
        let end = match self.open().await {
            Ok(storage) => {
                let end = self.carry(&storage).await;
                self.close(&storage, end).await;
                "the show is not published any more"
            }
            Err(reason) => reason,
        };
        self.state.house.note_publishing(self.rules.id, self.session, None);
        tracing::info!(session = self.session, %channel, depot, end);
    }

    /// The place in the depot; asked for until the database and the depot's settings allow it.
    async fn open(&mut self) -> Result<Arc<LiveDepot>, &'static str> {
        loop {
            if !self.is_wanted() {
                return Err("publishing is not wanted any more");
            }
            let depot = self.state.house.store().depot(&self.published.depot).await;
            let opened = depot
                .map_err(|error| error.to_string())
                .and_then(|depot| LiveDepot::new(&depot, self.rules.name.as_str()).map_err(|error| error.to_string()));
            match opened {
                Ok(storage) => return Ok(Arc::new(storage)),
                Err(fault) => self.fail(fault).await,
            }
        }
    }

    fn is_wanted(&self) -> bool {
        !self.state.house.stopping().is_cancelled()
            && depot_now(&self.state.house, self.rules.id).as_ref() == Some(&self.published)
    }

    async fn carry(&mut self, storage: &Arc<LiveDepot>) -> End {
        let source = self.source.take().filter(|show| !show.live().has_ended());
        let packaging = source.and_then(|show| self.state.screens.for_house(&self.state.house, &self.rules, &show));
        let Some(packaging) = packaging else { return End::Unwanted };
        self.sent.run = packaging.run();
        // Beside the show: there may be thousands of them.
        let _sweeping = AbortOnDropHandle::new(tokio::spawn(self.sweep(storage.clone())));
        let mut over_at = None;
        loop {
            if self.state.house.stopping().is_cancelled() {
                return End::Stop;
            }
            // One that stopped by itself is begun anew, and published by another outlet.
            if !self.is_wanted() || packaging.is_stopped() {
                return End::Unwanted;
            }
            let is_over = packaging.has_ended();
            // A depot that is away then is not waited for: what it did not take would be held here.
            let has_given_up = is_over && over_at.get_or_insert_with(Instant::now).elapsed() > STAY;
            if has_given_up {
                return End::Show;
            }
            match self.advance(storage, &packaging).await {
                Ok(true) => self.pause = FIRST_PAUSE,
                Ok(false) if is_over => return End::Show,
                Ok(false) => packaging.wait_for_news(LOOK_INTERVAL).await,
                Err(error) => {
                    self.fail(error.to_string()).await;
                    continue;
                }
            }
            self.note_progress(is_over);
        }
    }

    /// Sends what is new: pieces, then the playlists that tell them. True if there was something.
    async fn advance(&mut self, storage: &LiveDepot, packaging: &Packaging) -> Result<bool, DepotError> {
        let next = packaging.next_outside(&mut self.show);
        let has_some = !next.is_empty();
        if !has_some && !self.sent.has_untold {
            return Ok(false);
        }
        // All tracks at the same time: one after the other would add up.
        let run = self.sent.run;
        let headers = &self.sent.headers;
        let sending = next.iter().map(|(id, segment)| send_segment(storage, packaging, (run, headers), *id, segment));
        try_join_all(sending).await?;
        for (id, segment) in next {
            self.status.sent_bytes += segment.piece.size_bytes();
            self.sent.headers.insert((id, segment.told.header));
            self.sent.segments.insert((id, segment.told.number));
            self.show.tell(id, segment.told);
            self.sent.has_untold = true;
        }
        self.send_playlists(storage).await?;
        if self.show.has_begun() {
            self.send_index(storage, packaging).await?;
        }
        self.sent.has_untold = false;
        self.sent.useless.extend(self.show.take_useless());
        self.remove_useless(storage).await;
        Ok(has_some)
    }

    /// Removes what no player has use for. Where that fails it is tried again later, and the show goes on.
    async fn remove_useless(&mut self, storage: &LiveDepot) {
        if self.sent.remove_again_at.is_some_and(|at| Instant::now() < at) {
            return;
        }
        for _ in 0..MAX_REMOVALS {
            let Some(&(id, number)) = self.sent.useless.front() else { break };
            if let Err(error) = storage.remove(&place(self.sent.run, id, PieceName::Segment(number))).await {
                self.sent.remove_again_at = Some(Instant::now() + REMOVAL_PAUSE);
                self.sent.removal_fault = Some(format!("old segments stay there: {error}"));
                return;
            }
            self.sent.segments.remove(&(id, number));
            self.sent.useless.pop_front();
        }
        (self.sent.remove_again_at, self.sent.removal_fault) = (None, None);
    }

    async fn send_playlists(&mut self, storage: &LiveDepot) -> Result<(), DepotError> {
        let run = self.sent.run;
        let playlists: Vec<(TrackId, String)> = self.show.playlists().collect();
        let sending = playlists.iter().map(|(id, text)| {
            let name = format!("{run}/{}/{INDEX}", id.0);
            async move { storage.put(&name, PLAYLIST_KIND, [Bytes::from(text.clone())]).await }
        });
        try_join_all(sending).await?;
        self.sent.playlists.extend(playlists.iter().map(|(id, _)| *id));
        Ok(())
    }

    /// The playlist that players are given comes last, and is written anew where it says something else.
    async fn send_index(&mut self, storage: &LiveDepot, packaging: &Packaging) -> Result<(), DepotError> {
        let Some(text) = packaging.multivariant() else { return Ok(()) };
        let is_due = |(at, known): &(Instant, Arc<str>)| *known != text && at.elapsed() > RENEWAL;
        if self.sent.index.as_ref().is_none_or(is_due) {
            storage.put(INDEX, PLAYLIST_KIND, [Bytes::from(text.to_string())]).await?;
            self.sent.index = Some((Instant::now(), text));
        }
        Ok(())
    }

    fn note_progress(&mut self, is_over: bool) {
        self.status.told_until = self.show.told_until();
        let behind = self.status.told_until.map(|until| time::OffsetDateTime::now_utc() - until);
        self.status.fault = behind
            .filter(|behind| *behind > MUCH_BEHIND && !is_over)
            .map(|behind| format!("the depot takes less than the show has: it is {} s behind", behind.whole_seconds()));
        if self.status.fault.is_none() {
            self.status.fault.clone_from(&self.sent.removal_fault);
        }
        self.tell();
    }

    /// Tells what is wrong, and waits a while.
    async fn fail(&mut self, fault: String) {
        if self.status.fault.as_ref() != Some(&fault) {
            tracing::warn!(session = self.session, depot = self.status.depot, fault, "publishing waits");
        }
        self.status.fault = Some(fault);
        self.tell();
        tokio::select! {
            () = sleep(self.pause) => {}
            () = self.state.house.stopping().cancelled() => {}
        }
        self.pause = (self.pause * 2).min(LONGEST_PAUSE);
    }

    fn tell(&self) {
        self.state.house.note_publishing(self.rules.id, self.session, Some(self.status.clone()));
    }

    /// Tells viewers that nothing follows, and removes everything once they have seen it.
    async fn close(&mut self, storage: &LiveDepot, end: End) {
        self.show.end();
        if let Err(error) = self.send_playlists(storage).await {
            tracing::warn!(session = self.session, %error, "viewers of a depot were not told the end");
        }
        self.state.house.note_publishing(self.rules.id, self.session, None);
        match end {
            End::Stop => return,
            End::Unwanted => {}
            End::Show => tokio::select! {
                () = sleep(STAY + self.rules.viewing.back) => {}
                // What stays is removed by the next show.
                () = self.state.house.stopping().cancelled() => return,
            },
        }
        if let Err(error) = self.remove_all(storage).await {
            tracing::warn!(session = self.session, %error, "what a show left in a depot is removed by the next one");
        }
    }

    async fn remove_all(&mut self, storage: &LiveDepot) -> Result<(), DepotError> {
        let run = self.sent.run;
        // Another show has taken the channel's place already.
        let is_newest = self.state.house.publishing(self.rules.id).is_none();
        if is_newest {
            storage.remove(INDEX).await?;
        }
        for id in &self.sent.playlists {
            storage.remove(&format!("{run}/{}/{INDEX}", id.0)).await?;
        }
        for (id, number) in std::mem::take(&mut self.sent.segments) {
            storage.remove(&place(run, id, PieceName::Segment(number))).await?;
        }
        for (id, number) in std::mem::take(&mut self.sent.headers) {
            storage.remove(&place(run, id, PieceName::Header(number))).await?;
        }
        Ok(())
    }

    /// Removes what shows left that were published before: a service that was killed leaves everything.
    fn sweep(&self, storage: Arc<LiveDepot>) -> impl Future<Output = ()> + use<> {
        let own = format!("{}/", self.sent.run);
        // Whatever is younger may still be fetched, or is removed by the outlet that sent it.
        let age = STAY + self.rules.viewing.back * 2;
        let session = self.session;
        async move {
            let before = time::OffsetDateTime::now_utc() - age;
            let swept = async {
                let mut left = storage.written_before(before, MAX_LEFT).await?;
                left.retain(|name| name != INDEX && !name.starts_with(&own));
                for name in &left {
                    storage.remove(name).await?;
                }
                Ok::<_, DepotError>(left.len())
            };
            match swept.await {
                Ok(0) => {}
                Ok(count) => tracing::info!(session, count, "what earlier shows left in the depot is removed"),
                Err(error) => tracing::warn!(session, %error, "what earlier shows left in the depot stays there"),
            }
        }
    }
}

/// Sends a segment, behind its header where that is not there yet.
async fn send_segment(
    storage: &LiveDepot,
    packaging: &Packaging,
    (run, headers): (u64, &BTreeSet<(TrackId, u64)>),
    id: TrackId,
    segment: &WholeSegment,
) -> Result<(), DepotError> {
    let media_type = if id.kind() == TrackKind::Video { VIDEO } else { AUDIO };
    let kind = ObjectKind { media_type, caching: "public, max-age=3600, immutable" };
    let header = PieceName::Header(segment.told.header);
    if !headers.contains(&(id, segment.told.header))
        && let Found::Header(bytes) = packaging.find(id, header)
    {
        storage.put(&place(run, id, header), kind, [bytes]).await?;
    }
    let name = place(run, id, PieceName::Segment(segment.told.number));
    storage.put(&name, kind, segment.piece.segments().cloned()).await
}

fn place(run: u64, id: TrackId, piece: PieceName) -> String {
    format!("{run}/{}/{piece}", id.0)
}
