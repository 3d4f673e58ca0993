//! Watching a channel from show to show.

use std::sync::Arc;

use tokio::sync::watch;
use waverant_media::MediaTime;
use waverant_relay::{BetweenShows, Cursor, Entry, HubLimits};
use waverant_rtmp::StreamRates;
use waverant_show::{Feed, FeedReader, Show};

use crate::House;

/// What a player wants to see of a channel.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Wish {
    /// The show that is on, or the next one, and then the end; else one after the other.
    pub is_one_show: bool,
    /// Rehearsals too.
    pub sees_rehearsals: bool,
}

/// Reads a channel for a player that stays: the show that is on air, and what stands in while none is.
#[derive(Debug)]
pub struct Tuner {
    house: Arc<House>,
    channel_id: u64,
    wish: Wish,
    allowance: MediaTime,
    reader: FeedReader,
    program: Program,
    /// Changes when there may be another show.
    begun: watch::Receiver<u64>,
    /// It was not looked yet what is on.
    must_look: bool,
    /// What comes next is of another show than what came before.
    is_new: bool,
    over: Option<String>,
}

#[derive(Debug)]
enum Program {
    Nothing,
    Picture,
    Show(Arc<Show>),
}

/// What [`Tuner::take`] came to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Tuned {
    /// What was taken is of another show, or picture, than what came before: it needs headers, and has other times.
    pub is_new: bool,
    /// Packets were missed before the first that was taken.
    pub has_jumped: bool,
    /// Nothing follows.
    pub is_over: bool,
}

impl Tuner {
    /// A player of a channel that may be so far behind, and takes so many packets at once.
    pub fn new(house: Arc<House>, channel_id: u64, wish: Wish, (allowance, max): (MediaTime, usize)) -> Self {
        let begun = house.shows.begun();
        let reader = FeedReader::new(nothing(), Cursor::new(allowance), max);
        let (program, must_look, is_new) = (Program::Nothing, true, false);
        Self { house, channel_id, wish, allowance, reader, program, begun, must_look, is_new, over: None }
    }

    /// The session that is read now.
    pub fn session(&self) -> Option<u64> {
        if let Program::Show(show) = &self.program { Some(show.id()) } else { None }
    }

    /// Takes the packets that are there; they are in [`entries`](Self::entries) then.
    pub fn take(&mut self) -> Tuned {
        self.look();
        let taken = self.reader.take();
        if taken.is_end() {
            self.leave();
        }
        let is_new = !self.reader.entries().is_empty() && std::mem::take(&mut self.is_new);
        Tuned { is_new, has_jumped: taken.has_jumped(), is_over: self.over.is_some() }
    }

    /// The packets that were taken last.
    pub fn entries(&self) -> &[Entry] {
        self.reader.entries()
    }

    /// Waits until there is something that was not taken.
    ///
    /// # Cancel safety
    /// Nothing is lost.
    pub async fn news(&self) {
        if self.must_look || self.over.is_some() {
            return;
        }
        if matches!(self.program, Program::Show(_)) {
            return self.reader.news().await;
        }
        let mut begun = self.begun.clone();
        tokio::select! {
            () = self.reader.news() => {}
            _ = begun.changed() => {}
        }
    }

    /// True if there may be something that was not taken.
    pub fn has_news(&self) -> bool {
        self.must_look || self.over.is_some() || self.reader.has_news() || self.may_have_begun()
    }

    /// Takes what is there for seen, without reading it; true if nothing follows.
    pub fn skip_news(&mut self) -> bool {
        if self.reader.feed().has_ended() {
            self.leave();
        }
        self.look();
        self.reader.skip_news();
        self.over.is_some()
    }

    /// Begins anew at a keyframe of what is on.
    pub fn restart(&mut self) {
        self.reader.restart();
    }

    /// True once for each announcement of a publisher, and the first time.
    pub fn take_announcement(&mut self) -> bool {
        self.reader.take_announcement()
    }

    /// What is announced or measured of the stream.
    pub fn rates(&self) -> StreamRates {
        match &self.program {
            Program::Show(show) => show.context().rates.rates(),
            Program::Nothing | Program::Picture => StreamRates::default(),
        }
    }

    /// Why nothing follows.
    pub fn end_reason(&self) -> &str {
        self.over.as_deref().unwrap_or("the show is over")
    }

    fn may_have_begun(&self) -> bool {
        !matches!(self.program, Program::Show(_)) && self.begun.has_changed().unwrap_or(false)
    }

    /// Looks what is on, where that may be another thing than what is read.
    fn look(&mut self) {
        if matches!(self.program, Program::Show(_)) {
            return;
        }
        if std::mem::take(&mut self.must_look) || self.may_have_begun() {
            self.begun.mark_unchanged();
            if let Some(show) = self.on_air() {
                let feed = show.live().clone();
                return self.read(Program::Show(show), feed);
            }
        }
        let directory = self.house.directory();
        let rules = directory.channel(self.channel_id);
        let picture = rules.filter(|rules| rules.viewing.between_shows == BetweenShows::Picture);
        match (&self.program, picture) {
            (Program::Nothing, Some(rules)) => {
                let feed = self.house.interludes.feed(rules, &self.house.surroundings);
                self.read(Program::Picture, feed);
            }
            (Program::Picture, None) => self.read(Program::Nothing, nothing()),
            _ => {}
        }
    }

    fn read(&mut self, program: Program, feed: Arc<Feed>) {
        self.reader.change(feed, Cursor::new(self.allowance));
        (self.program, self.is_new) = (program, true);
    }

    /// The show is over: the next one is waited for, unless one was enough.
    fn leave(&mut self) {
        if let Program::Show(show) = &self.program {
            self.over = self.wish.is_one_show.then(|| show.end_reason());
        }
        self.read(Program::Nothing, nothing());
        self.must_look = true;
    }

    fn on_air(&self) -> Option<Arc<Show>> {
        let show = self.house.show(self.channel_id).filter(|show| !show.live().has_ended());
        show.filter(|show| self.wish.sees_rehearsals || !show.is_rehearsal())
    }
}

/// A feed to which nothing comes.
fn nothing() -> Arc<Feed> {
    Arc::new(Feed::new(HubLimits::default(), std::time::Duration::ZERO, std::time::Instant::now()))
}
