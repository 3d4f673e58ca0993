use std::collections::HashMap;
use std::time::{Duration, Instant};

use thiserror::Error;

/// So long who fetches segments may not ask before it counts as gone: longer than two of the longest segments.
const IDLE: Duration = Duration::from_secs(20);

/// Devices of one address that are told apart while they fetch; all others count as one. Else one machine could take
/// all seats, under a new name with each request.
const MAX_DEVICES: u16 = 16;

/// What of the uplink is planned with; the rest is for what nobody planned.
const PLANNED: f64 = 0.9;

/// How somebody watches.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Way {
    /// By playlists and segments.
    Segments,
    /// A picture at a time over a WebSocket.
    Pictures,
    /// A continuous stream over HTTP: MPEG-TS or FLV.
    Stream,
    /// RTMP.
    Rtmp,
    /// SRT.
    Srt,
}

impl Way {
    /// All there are.
    pub const ALL: [Self; 5] = [Self::Segments, Self::Pictures, Self::Stream, Self::Rtmp, Self::Srt];
}

/// How many watch, by the way they do.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ViewerCounts {
    /// By playlists and segments.
    pub segments: u32,
    /// A picture at a time over a WebSocket.
    pub pictures: u32,
    /// A continuous stream over HTTP: MPEG-TS or FLV.
    pub stream: u32,
    /// RTMP.
    pub rtmp: u32,
    /// SRT.
    pub srt: u32,
}

impl ViewerCounts {
    /// All of them.
    pub fn total(&self) -> u32 {
        self.segments + self.pictures + self.stream + self.rtmp + self.srt
    }

    fn of(&mut self, way: Way) -> &mut u32 {
        match way {
            Way::Segments => &mut self.segments,
            Way::Pictures => &mut self.pictures,
            Way::Stream => &mut self.stream,
            Way::Rtmp => &mut self.rtmp,
            Way::Srt => &mut self.srt,
        }
    }

    /// The larger number for each way.
    #[must_use]
    pub fn max(self, other: Self) -> Self {
        Self {
            segments: self.segments.max(other.segments),
            pictures: self.pictures.max(other.pictures),
            stream: self.stream.max(other.stream),
            rtmp: self.rtmp.max(other.rtmp),
            srt: self.srt.max(other.srt),
        }
    }
}

/// A seat of the crowd; a number that is never given twice.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct ViewerId(u64);

/// Somebody who wants to watch. Address and device are digests that say nothing of who it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Newcomer {
    /// The channel.
    pub channel: u64,
    /// The link by which it comes, if by one.
    pub link: Option<u64>,
    /// Stands for its address.
    pub address: u64,
    /// Stands for its address and the program it watches with.
    pub device: u64,
    /// How it watches.
    pub way: Way,
}

/// How much room there is.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Room {
    /// Viewers that the link takes.
    pub link: Option<u32>,
    /// Viewers that the channel takes.
    pub channel: Option<u32>,
    /// Viewers that the house takes.
    pub house: u32,
    /// What the uplink still carries besides platforms and viewers, in viewers of this channel: None where nobody
    /// said what it carries.
    pub uplink: Option<u32>,
}

impl Room {
    /// How many more viewers of a stream an uplink carries, of which `taken_bps` are in use already.
    pub fn viewers_of(carries_bps: u64, taken_bps: f64, stream_bps: f64) -> u32 {
        #[expect(clippy::cast_precision_loss, reason = "bits per second are far below 2^52")]
        let left = carries_bps as f64 * PLANNED - taken_bps;
        #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "bounded, and not negative")]
        let viewers = (left / stream_bps.max(1.0)).clamp(0.0, f64::from(u32::MAX)) as u32;
        viewers
    }
}

/// Why somebody cannot watch now.
#[derive(Clone, Copy, Debug, Error, PartialEq, Eq)]
pub enum NoRoom {
    /// As many watch by this link as it is for.
    #[error("as many watch by this link as it is for")]
    Link,
    /// As many watch the channel as it takes.
    #[error("as many watch this channel as it takes")]
    Channel,
    /// As many watch as the house takes.
    #[error("as many watch here as this house takes")]
    House,
    /// The uplink is for the platforms first.
    #[error("the line of this house carries no more viewers")]
    Uplink,
}

/// Who came in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Seated {
    /// Its seat.
    pub id: ViewerId,
    /// Who lost its seat for it: the same device, which watched before.
    pub replaced: Option<ViewerId>,
}

#[derive(Clone, Copy, Debug)]
struct Viewer {
    newcomer: Newcomer,
    /// When it last asked, of who does not stay connected.
    asked: Option<Instant>,
}

/// Who watches what with which device: the channel, the link, and the device.
type Watcher = (u64, Option<u64>, u64);

/// Who watches which channel, and how many may.
#[derive(Debug, Default)]
pub struct Crowd {
    next: u64,
    viewers: HashMap<ViewerId, Viewer>,
    /// The seats of each, the oldest first.
    watchers: HashMap<Watcher, Vec<ViewerId>>,
    /// Devices of an address that fetch.
    devices: HashMap<u64, u16>,
    channels: HashMap<u64, ViewerCounts>,
    links: HashMap<u64, u32>,
    peaks: HashMap<u64, ViewerCounts>,
}

impl Crowd {
    /// Seats who comes. Who fetches segments asks with each request, and keeps its seat as long as it asks; all others
    /// keep theirs until they [`leave`](Self::leave).
    ///
    /// # Errors
    /// [`NoRoom`] if all seats are taken, by others than the same device.
    pub fn enter(
        &mut self,
        now: Instant,
        newcomer: Newcomer,
        room: impl FnOnce(&Self) -> Room,
    ) -> Result<Seated, NoRoom> {
        let newcomer = self.told_apart(newcomer);
        if let Some(id) = self.fetching(&newcomer) {
            if let Some(viewer) = self.viewers.get_mut(&id) {
                viewer.asked = Some(now);
            }
            return Ok(Seated { id, replaced: None });
        }
        let replaced = match self.fault(&newcomer, &room(self)) {
            Some(fault) => Some(self.oldest_like(&newcomer).ok_or(fault)?),
            None => None,
        };
        if let Some(id) = replaced {
            self.leave(id);
        }
        Ok(Seated { id: self.add(now, newcomer), replaced })
    }

    /// True if somebody would be seated now.
    pub fn would_seat(&self, newcomer: Newcomer, room: &Room) -> bool {
        let newcomer = self.told_apart(newcomer);
        self.fetching(&newcomer).is_some()
            || self.fault(&newcomer, room).is_none()
            || self.oldest_like(&newcomer).is_some()
    }

    /// Somebody goes.
    pub fn leave(&mut self, id: ViewerId) {
        let Some(Viewer { newcomer, asked }) = self.viewers.remove(&id) else { return };
        if asked.is_some() {
            lower(&mut self.devices, newcomer.address);
        }
        if let Some(seats) = self.watchers.get_mut(&watcher(&newcomer)) {
            seats.retain(|seat| *seat != id);
            if seats.is_empty() {
                self.watchers.remove(&watcher(&newcomer));
            }
        }
        if let Some(counts) = self.channels.get_mut(&newcomer.channel) {
            let count = counts.of(newcomer.way);
            *count = count.saturating_sub(1);
            if counts.total() == 0 {
                self.channels.remove(&newcomer.channel);
            }
        }
        if let Some(link) = newcomer.link {
            lower(&mut self.links, link);
        }
    }

    /// Who has not asked for long is gone.
    pub fn sweep(&mut self, now: Instant) {
        let is_gone = |viewer: &Viewer| viewer.asked.is_some_and(|at| now.saturating_duration_since(at) > IDLE);
        let gone: Vec<ViewerId> =
            self.viewers.iter().filter(|(_, viewer)| is_gone(viewer)).map(|(id, _)| *id).collect();
        gone.into_iter().for_each(|id| self.leave(id));
    }

    /// How many watch a channel.
    pub fn counts(&self, channel: u64) -> ViewerCounts {
        self.channels.get(&channel).copied().unwrap_or_default()
    }

    /// How many watch by a link.
    pub fn by_link(&self, link: u64) -> u32 {
        self.links.get(&link).copied().unwrap_or(0)
    }

    /// All channels that are watched.
    pub fn channels(&self) -> impl Iterator<Item = (u64, ViewerCounts)> {
        self.channels.iter().map(|(channel, counts)| (*channel, *counts))
    }

    /// The most that watched each channel by each way since this was last asked.
    pub fn take_peaks(&mut self) -> Vec<(u64, ViewerCounts)> {
        std::mem::replace(&mut self.peaks, self.channels.clone()).into_iter().collect()
    }

    fn fetching(&self, newcomer: &Newcomer) -> Option<ViewerId> {
        let seats = (newcomer.way == Way::Segments).then(|| self.watchers.get(&watcher(newcomer)))??;
        seats.iter().copied().find(|id| self.viewers.get(id).is_some_and(|viewer| viewer.asked.is_some()))
    }

    /// The newcomer, as a device of its own if its address has not too many already.
    fn told_apart(&self, newcomer: Newcomer) -> Newcomer {
        if newcomer.way != Way::Segments || self.fetching(&newcomer).is_some() {
            return newcomer;
        }
        let has_many = self.devices.get(&newcomer.address).is_some_and(|count| *count >= MAX_DEVICES);
        if has_many { Newcomer { device: newcomer.address, ..newcomer } } else { newcomer }
    }

    fn fault(&self, newcomer: &Newcomer, room: &Room) -> Option<NoRoom> {
        let is_full = |count: u32, most: Option<u32>| most.is_some_and(|most| count >= most);
        let total = u32::try_from(self.viewers.len()).unwrap_or(u32::MAX);
        if newcomer.link.is_some_and(|link| is_full(self.by_link(link), room.link)) {
            Some(NoRoom::Link)
        } else if is_full(self.counts(newcomer.channel).total(), room.channel) {
            Some(NoRoom::Channel)
        } else if total >= room.house {
            Some(NoRoom::House)
        } else if room.uplink == Some(0) {
            Some(NoRoom::Uplink)
        } else {
            None
        }
    }

    /// Who watches the same with the same device for longest: a player that comes again before its old connection is
    /// known to be lost.
    fn oldest_like(&self, newcomer: &Newcomer) -> Option<ViewerId> {
        self.watchers.get(&watcher(newcomer))?.first().copied()
    }

    fn add(&mut self, now: Instant, newcomer: Newcomer) -> ViewerId {
        self.next += 1;
        let (id, fetches) = (ViewerId(self.next), newcomer.way == Way::Segments);
        self.viewers.insert(id, Viewer { newcomer, asked: fetches.then_some(now) });
        self.watchers.entry(watcher(&newcomer)).or_default().push(id);
        if fetches {
            *self.devices.entry(newcomer.address).or_default() += 1;
        }
        let counts = self.channels.entry(newcomer.channel).or_default();
        *counts.of(newcomer.way) += 1;
        let peak = self.peaks.entry(newcomer.channel).or_default();
        *peak = peak.max(*counts);
        if let Some(link) = newcomer.link {
            *self.links.entry(link).or_default() += 1;
        }
        id
    }
}

fn watcher(newcomer: &Newcomer) -> Watcher {
    (newcomer.channel, newcomer.link, newcomer.device)
}

/// Takes one from a count; what comes to nothing is forgotten.
fn lower<N: Copy + PartialEq + From<u8> + std::ops::Sub<Output = N>>(counts: &mut HashMap<u64, N>, key: u64) {
    if let Some(count) = counts.get_mut(&key) {
        if *count == N::from(1) {
            counts.remove(&key);
        } else {
            *count = *count - N::from(1);
        }
    }
}
