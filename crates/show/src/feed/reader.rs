use std::pin::pin;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use waverant_media::MediaTime;
use waverant_relay::{Cursor, Entry, Read};

use super::{Feed, FeedRead};

/// One reader of a feed: it waits for news, takes packets, and knows what it has seen. All that reads a show does
/// so by this: legs, recorder, viewers, the delay line.
#[derive(Debug)]
pub struct FeedReader {
    feed: Arc<Feed>,
    cursor: Cursor,
    entries: Vec<Entry>,
    max: usize,
    /// The news count when everything was read.
    seen: Option<u64>,
    /// The announcements that were told on.
    announced: Option<u64>,
}

/// What [`FeedReader::take`] came to.
#[derive(Clone, Copy, Debug)]
pub struct Taken {
    /// Whether packets were missed, or all is over.
    pub read: Read,
    /// How far the reader still is behind the newest packet.
    pub lag: MediaTime,
    /// Where a reader that began anew goes on, counted from where it stopped; negative if it repeats some.
    pub resumed: Option<MediaTime>,
}

impl Taken {
    /// True if packets were missed before the first that was taken.
    pub fn has_jumped(&self) -> bool {
        matches!(self.read, Read::Jumped { .. })
    }

    /// True if nothing follows.
    pub fn is_end(&self) -> bool {
        self.read == Read::End
    }
}

impl FeedReader {
    /// A reader that takes up to `max` packets at once, from where `cursor` begins.
    pub fn new(feed: Arc<Feed>, cursor: Cursor, max: usize) -> Self {
        Self { feed, cursor, entries: Vec::new(), max, seen: None, announced: None }
    }

    /// What is read.
    pub fn feed(&self) -> &Arc<Feed> {
        &self.feed
    }

    /// Reads another feed from now on, or the same from where `cursor` begins.
    pub fn change(&mut self, feed: Arc<Feed>, cursor: Cursor) {
        (self.feed, self.cursor, self.seen) = (feed, cursor, None);
    }

    /// Takes the packets that are there, `max` at most; they are in [`entries`](Self::entries) then.
    pub fn take(&mut self) -> Taken {
        // Counted before: what comes while it is read is news.
        let count = self.feed.news_count.load(Ordering::Acquire);
        self.entries.clear();
        let stopped_at = self.cursor.stopped_at();
        let FeedRead { read, lag, has_ended } = self.feed.read(&mut self.cursor, self.max, &mut self.entries);
        let is_more = has_ended || self.entries.len() == self.max;
        self.seen = (!is_more).then_some(count);
        let resumed = stopped_at.zip(self.entries.first()).map(|(stopped, first)| first.packet.dts - stopped);
        Taken { read, lag, resumed }
    }

    /// The packets that were taken last.
    pub fn entries(&self) -> &[Entry] {
        &self.entries
    }

    /// Gives the packets that were taken last away.
    pub fn drain(&mut self) -> impl Iterator<Item = Entry> {
        self.entries.drain(..)
    }

    /// True if there may be something that was not taken.
    pub fn has_news(&self) -> bool {
        self.seen != Some(self.feed.news_count.load(Ordering::Acquire))
    }

    /// Waits until there is something that was not taken.
    ///
    /// # Cancel safety
    /// Nothing is lost.
    pub async fn news(&self) {
        let mut news = pin!(self.feed.news.notified());
        // Registered before the count is read, so that no news falls between.
        news.as_mut().enable();
        if !self.has_news() {
            news.await;
        }
    }

    /// Takes what is there for seen, without reading it.
    pub fn skip_news(&mut self) {
        self.seen = Some(self.feed.news_count.load(Ordering::Acquire));
    }

    /// True once for each announcement of a publisher, and the first time.
    pub fn take_announcement(&mut self) -> bool {
        let announced = Some(self.feed.announced.load(Ordering::Acquire));
        std::mem::replace(&mut self.announced, announced) != announced
    }

    /// Begins anew at a keyframe, by what repeats and loses least.
    pub fn restart(&mut self) {
        self.cursor.restart();
        self.seen = None;
    }

    /// Begins anew at a keyframe that is `back` older than the newest packet, or at the oldest one there is.
    pub fn restart_back(&mut self, cursor: Cursor, back: MediaTime) {
        (self.cursor, self.seen) = (cursor, None);
        self.cursor.restart_back(back);
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use tokio::time::timeout;
    use waverant_media::testing::h264_and_aac;
    use waverant_media::{Packet, TrackId, TrackKind};
    use waverant_relay::{HubLimits, Origin};

    use super::*;
    use crate::clock;

    fn push(feed: &Feed, number: i64) {
        let (time, payload) = (MediaTime::from_millis(number * 40), vec![0; 8].into());
        let (track, kind) = (TrackId::VIDEO, TrackKind::Video);
        let packet = Packet { track, kind, dts: time, pts: time, random_access: number % 25 == 0, payload };
        feed.push(packet, Arc::new(h264_and_aac()), Origin::Show);
        feed.tell_news();
    }

    #[tokio::test(start_paused = true)]
    async fn a_reader_waits_only_for_what_it_has_not_seen() {
        let feed = Arc::new(Feed::new(HubLimits::default(), Duration::ZERO, clock::now()));
        let mut reader = FeedReader::new(feed.clone(), Cursor::new(MediaTime::from_millis(5000)), 4);
        let waits = async |reader: &FeedReader| timeout(Duration::from_secs(1), reader.news()).await.is_err();
        assert!(!waits(&reader).await, "it has not looked yet");
        reader.take();
        assert!(waits(&reader).await);
        (0..6).for_each(|number| push(&feed, number));
        assert!(!waits(&reader).await);
        reader.take();
        assert_eq!((reader.entries().len(), reader.has_news()), (4, true), "there is more than it takes at once");
        reader.take();
        assert_eq!((reader.entries().len(), waits(&reader).await), (2, true));
        assert!(reader.take_announcement() && !reader.take_announcement());
        feed.count_announcement();
        assert!(reader.take_announcement());
        feed.end();
        assert!(!waits(&reader).await && reader.take().is_end());
    }

    #[tokio::test]
    async fn who_begins_anew_is_told_where_it_goes_on() {
        let feed = Arc::new(Feed::new(HubLimits::default(), Duration::ZERO, clock::now()));
        let mut reader = FeedReader::new(feed.clone(), Cursor::new(MediaTime::from_millis(5000)), 64);
        (0..30).for_each(|number| push(&feed, number));
        assert_eq!(reader.take().resumed, None);
        reader.restart();
        assert_eq!(reader.take().resumed, Some(MediaTime::from_millis(-160)));
    }
}
