//! The recorder of a session: takes packets from the hub and writes takes.

mod desk;
mod take;
mod takes;
#[cfg(test)]
mod tests;

use std::io;
use std::sync::Arc;
use std::time::Duration;

use time::OffsetDateTime;
use tokio::sync::watch;
use tokio::time::sleep;
use waverant_container::FileFormat;
use waverant_media::{MediaTime, TrackKind};
use waverant_relay::{
    ChannelName, ChannelRules, Cursor, Entry as HubEntry, NameFacts, Origin, Read, ShowRecord, Splitter, TakeDisk,
    TakeNumbers, TakeRecord, TakeState,
};

pub use desk::{RecorderDesk, RecorderState};
pub use takes::Takes;

use crate::context::ShowContext;
use crate::feed::{FeedReader, Taken};

use take::{Take, TakeStart, off_the_runtime};

/// Packets taken from the hub at once.
const MAX_ENTRIES: usize = 256;

/// A disk may stall this long before packets are lost to the recording.
pub(crate) const ALLOWANCE: MediaTime = MediaTime::from_millis(15_000);

/// Pause before a new take is tried after the disk failed; it doubles each time, up to a minute.
const FIRST_PAUSE: Duration = Duration::from_secs(2);
const LONGEST_PAUSE: Duration = Duration::from_secs(60);

/// What a recorder works with.
#[derive(Clone, Debug)]
pub(crate) struct RecorderSetup {
    pub(crate) show: ShowContext,
    /// The channel's rules as they are now.
    pub(crate) rules: watch::Receiver<Arc<ChannelRules>>,
    pub(crate) desk: Arc<RecorderDesk>,
    /// Where the takes can be seen.
    pub(crate) takes: Arc<Takes>,
    pub(crate) disk: Arc<dyn TakeDisk>,
    pub(crate) numbers: Arc<TakeNumbers>,
    pub(crate) clock: fn() -> OffsetDateTime,
}

impl RecorderSetup {
    /// Session and channel, for the log.
    fn whose(&self) -> (u64, &ChannelName) {
        (self.show.id, &self.show.channel)
    }

    /// Tells of a change of a take; what `is_kept` goes into the records.
    fn note(&self, take: &TakeRecord, is_kept: bool) {
        self.takes.note(take);
        if is_kept {
            self.show.ledger.write(ShowRecord::Take(take.clone()));
        }
    }

    /// Notes what belongs into the report.
    fn tell(&self, text: String) {
        self.show.events.note(text);
    }
}

/// Records a session until it is over. The disk never holds up the hub: this task is only one
/// more reader of it.
pub(crate) async fn run(setup: RecorderSetup) {
    let (desk, over) = (setup.desk.clone(), setup.show.feeds.live().over().clone());
    let mut reader = FeedReader::new(setup.show.feeds.live().clone(), Cursor::from_beginning(ALLOWANCE), MAX_ENTRIES);
    let mut recorder = Recorder { setup, take: None, pause: FIRST_PAUSE };
    // Who records from the beginning has nothing to go back to.
    let mut is_reading = desk.wanted().is_some();
    loop {
        let mut changed = std::pin::pin!(desk.changed());
        changed.as_mut().enable();
        let Some(pre_roll) = desk.wanted() else {
            recorder.end_take("stopped by hand").await;
            desk.set_state(RecorderState::Off);
            is_reading = false;
            tokio::select! {
                () = changed => continue,
                () = over.cancelled() => return,
            }
        };
        if !is_reading {
            reader.restart_back(Cursor::new(ALLOWANCE), MediaTime::from_duration(pre_roll));
            is_reading = true;
        }
        let Taken { read, .. } = reader.take();
        if let Err(error) = recorder.write(reader.entries(), read).await {
            if !recorder.wait_for_the_disk(&error).await {
                return;
            }
            reader.restart();
            continue;
        }
        if read == Read::End {
            return recorder.end_take("the session is over").await;
        }
        if reader.entries().is_empty() {
            tokio::select! {
                () = reader.news() => {}
                () = changed => {}
            }
        }
    }
}

struct Recorder {
    setup: RecorderSetup,
    take: Option<Take>,
    pause: Duration,
}

impl Recorder {
    async fn write(&mut self, entries: &[HubEntry], read: Read) -> anyhow::Result<()> {
        if self.take.is_none() && !matches!(self.setup.desk.state().0, RecorderState::Stopped(_)) {
            self.setup.desk.set_state(RecorderState::Waiting);
        }
        if let Read::Jumped { missed, missed_frame_count } = read {
            self.note_gap(missed, missed_frame_count);
        }
        let mut has_written = self.place_marks();
        // A take is of the show; what stood in for it is left out.
        for entry in entries.iter().filter(|entry| entry.origin != Origin::Slate) {
            self.follow(entry).await?;
            if self.take.is_none() {
                let has_video = entry.tracks.has(TrackKind::Video);
                if has_video && !entry.packet.is_keyframe() {
                    continue;
                }
                self.begin_take(entry).await?;
            }
            if let Some(take) = &mut self.take {
                has_written |= take.push(&entry.packet).await?;
            }
        }
        if has_written {
            self.pause = FIRST_PAUSE;
            if let Some(take) = &self.take {
                self.setup.note(&take.record, false);
            }
        }
        Ok(())
    }

    /// Ends the take where the next one is to begin, and marks returns.
    async fn follow(&mut self, entry: &HubEntry) -> anyhow::Result<()> {
        let is_return = entry.origin == Origin::Returned;
        let Some(take) = &mut self.take else { return Ok(()) };
        if is_return {
            take.mark(take.last_pts().unwrap_or(entry.packet.pts), "publisher lost");
            take.mark(entry.packet.pts, "publisher back");
        }
        // Other parameters need another file.
        let differs = !Arc::ptr_eq(&take.tracks, &entry.tracks);
        if differs || take.splitter.splits_before(&entry.packet, &entry.tracks, is_return) {
            self.finish_take(if differs { "the stream changed" } else { "split by rule" }).await?;
        }
        Ok(())
    }

    /// Marks that were set meanwhile go into the take. True if there are any.
    fn place_marks(&mut self) -> bool {
        let marks = self.setup.desk.take_marks();
        let Some(take) = &mut self.take else { return false };
        for (at, title) in &marks {
            take.mark(*at, title);
        }
        !marks.is_empty()
    }

    fn note_gap(&mut self, missed: MediaTime, missed_frame_count: u64) {
        let Some(take) = &mut self.take else { return };
        take.record.gap_count += 1;
        take.record.gap_ms += u64::try_from(missed.millis()).unwrap_or(0);
        if let Some(at) = take.last_pts() {
            take.mark(at, &format!("{missed} are missing: the disk was too slow"));
        }
        let (session, channel) = self.setup.whose();
        tracing::error!(session, %channel, missed_frame_count, %missed, "the disk is too slow: the recording has a gap");
        self.setup.tell(format!("the disk was too slow: {missed} are missing in the recording"));
    }

    async fn begin_take(&mut self, entry: &HubEntry) -> anyhow::Result<()> {
        let channel = self.setup.rules.borrow().clone();
        let rules = &channel.recording;
        let (session_id, started_at) = (self.setup.show.id, (self.setup.clock)());
        let number = self.setup.numbers.next(session_id);
        let facts = NameFacts { channel: &channel.name, started_at, session_id, number };
        let record = TakeRecord {
            session_id,
            number,
            path: rules.names.path(&facts),
            state: TakeState::Writing,
            started_at,
            duration_ms: 0,
            size_bytes: 0,
            gap_count: 0,
            gap_ms: 0,
            marks: Vec::new(),
            repair: None,
        };
        let start = TakeStart {
            format: if rules.matroska { FileFormat::Matroska } else { FileFormat::Mp4 },
            tracks: entry.tracks.clone(),
            record,
            title: format!("{} {number}", channel.name),
            splitter: Splitter::new(rules.split),
        };
        let take = Take::begin(self.setup.disk.clone(), start).await?;
        self.setup.note(&take.record, true);
        tracing::info!(session = session_id, channel = %channel.name, take = number, path = take.record.path, "recording");
        if matches!(self.setup.desk.state().0, RecorderState::Stopped(_)) {
            self.setup.tell("the recording goes on".to_owned());
        }
        self.setup.desk.set_state(RecorderState::Recording);
        self.take = Some(take);
        Ok(())
    }

    /// Ends the take in order, whatever comes of it.
    async fn end_take(&mut self, reason: &str) {
        if let Err(error) = self.finish_take(reason).await {
            let (session, channel) = self.setup.whose();
            tracing::error!(session, %channel, %error, "the take could not be ended properly");
            self.setup.tell(format!("a take could not be ended properly: {error}"));
        }
    }

    async fn finish_take(&mut self, reason: &str) -> anyhow::Result<()> {
        let Some(mut take) = self.take.take() else { return Ok(()) };
        let ended = take.finish().await;
        take.record.state = if ended.is_ok() { TakeState::Complete } else { TakeState::CutOff };
        let (session, channel) = self.setup.whose();
        tracing::info!(session, %channel, take = take.record.number, reason, "the take is ended");
        self.setup.note(&take.record, true);
        ended
    }

    /// Leaves a take as it is after its disk failed, says so, and waits until it is worth another
    /// try. False if the session is over.
    async fn wait_for_the_disk(&mut self, error: &anyhow::Error) -> bool {
        if let Some(mut take) = self.take.take() {
            take.record.state = TakeState::CutOff;
            self.setup.note(&take.record, true);
        }
        let is_full = error.downcast_ref::<io::Error>().is_some_and(|error| error.kind() == io::ErrorKind::StorageFull);
        let reason = if is_full { format!("the disk is full: {error}") } else { format!("the disk failed: {error}") };
        let (session, channel) = self.setup.whose();
        tracing::error!(session, %channel, reason, "the recording is stopped; it goes on when it can");
        if self.setup.desk.set_state(RecorderState::Stopped(reason.clone())) {
            self.setup.tell(format!("the recording was stopped: {reason}"));
        }
        loop {
            tokio::select! {
                () = sleep(self.pause) => {}
                // Nothing new comes: a new take would only repeat the last group of pictures.
                () = self.setup.show.feeds.live().over().cancelled() => return false,
            }
            self.pause = (self.pause * 2).min(LONGEST_PAUSE);
            if !is_full || self.has_room_again().await {
                return true;
            }
            // Room is looked for often: it may be somebody's hand that makes it.
            self.pause = FIRST_PAUSE;
        }
    }

    async fn has_room_again(&self) -> bool {
        let disk = self.setup.disk.clone();
        off_the_runtime(move || disk.outlook()).await.is_ok_and(|outlook| outlook.has_room_again())
    }
}
