//! The recorder of a session: takes packets from the hub and writes takes.

mod file;
mod recover;

use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use time::OffsetDateTime;
use tokio::time::sleep;
use waverant_container::{Fragment, FragmentWriter};
use waverant_media::{MediaTime, Tracks};
use waverant_relay::{Cursor, Entry as HubEntry, Read, take_path};
use waverant_store::{TakeRecord, TakeState};

pub(crate) use recover::recover_takes;

use crate::house::{Entry, Ledger};
use crate::show::Show;
use file::TakeFile;

/// Packets taken from the hub at once.
const MAX_ENTRIES: usize = 256;

/// A disk may stall this long before packets are lost to the recording.
const ALLOWANCE: MediaTime = MediaTime::from_millis(15_000);

/// Pause before a new take is tried after the disk failed.
const RETRY_PAUSE: Duration = Duration::from_secs(5);

/// Records a session until it is over. The disk never holds up the hub: this task is only one
/// more reader of it.
pub(crate) async fn run(show: Arc<Show>, ledger: Ledger, folder: PathBuf) {
    let mut recorder = Recorder { show, ledger, folder, take: None, take_count: 0 };
    let mut cursor = Cursor::new(ALLOWANCE);
    let mut entries = Vec::with_capacity(MAX_ENTRIES);
    loop {
        let show = recorder.show.clone();
        let mut news = std::pin::pin!(show.feed.news());
        news.as_mut().enable();
        entries.clear();
        let read = show.feed.read(&mut cursor, MAX_ENTRIES, &mut entries).read;
        if let Read::Jumped { missed_frame_count, .. } = read {
            tracing::error!(session = show.id, missed_frame_count, "the disk is too slow: the recording has a gap");
        }
        if let Err(error) = recorder.write(&entries).await {
            tracing::error!(session = show.id, %error, "the recording failed; trying again soon");
            recorder.abandon();
            tokio::select! {
                () = sleep(RETRY_PAUSE) => cursor.restart(),
                // Nothing new comes: a new take would only repeat the last group of pictures.
                () = show.over.cancelled() => return,
            }
            continue;
        }
        if read == Read::End {
            return recorder.end().await;
        }
        if entries.is_empty() {
            news.await;
        }
    }
}

struct Recorder {
    show: Arc<Show>,
    ledger: Ledger,
    folder: PathBuf,
    take: Option<Take>,
    take_count: u32,
}

/// A take that is being written.
struct Take {
    writer: FragmentWriter,
    file: TakeFile,
    tracks: Arc<Tracks>,
    record: TakeRecord,
}

impl Recorder {
    async fn write(&mut self, entries: &[HubEntry]) -> anyhow::Result<()> {
        // A take is of the show; what stood in for it is left out.
        for entry in entries.iter().filter(|entry| !entry.is_slate) {
            // Other parameters need another file.
            if self.take.as_ref().is_some_and(|take| !Arc::ptr_eq(&take.tracks, &entry.tracks)) {
                self.end_take().await?;
            }
            if self.take.is_none() {
                if entry.tracks.has(waverant_media::TrackKind::Video) && !entry.packet.is_keyframe() {
                    continue;
                }
                self.take = Some(self.begin_take(&entry.tracks).await?);
            }
            if let Some(take) = &mut self.take
                && let Some(fragment) = take.writer.push(&entry.packet)?
            {
                take.append(fragment).await?;
                self.publish();
            }
        }
        Ok(())
    }

    async fn begin_take(&mut self, tracks: &Arc<Tracks>) -> anyhow::Result<Take> {
        self.take_count += 1;
        let started_at = OffsetDateTime::now_utc();
        let path = take_path(&self.show.channel.name, started_at, self.show.id, self.take_count);
        let writer = FragmentWriter::new(tracks)?;
        let file = TakeFile::create(self.folder.join(&path)).await?;
        let record = TakeRecord {
            session_id: self.show.id,
            number: self.take_count,
            path: path.to_string_lossy().into_owned(),
            state: TakeState::Writing,
            started_at,
            duration_ms: 0,
            size_bytes: 0,
        };
        self.ledger.write(Entry::Take(record.clone()));
        self.show.takes.lock().push(record.clone());
        tracing::info!(session = self.show.id, take = self.take_count, path = record.path, "recording");
        Ok(Take { writer, file, tracks: tracks.clone(), record })
    }

    /// Shows the newest length and size to whoever looks.
    fn publish(&self) {
        let Some(take) = &self.take else { return };
        if let Some(shown) = self.show.takes.lock().last_mut() {
            shown.clone_from(&take.record);
        }
    }

    async fn end_take(&mut self) -> anyhow::Result<()> {
        let Some(mut take) = self.take.take() else { return Ok(()) };
        let ended = take.finish().await;
        take.record.state = if ended.is_ok() { TakeState::Complete } else { TakeState::CutOff };
        self.note(take.record);
        ended
    }

    async fn end(&mut self) {
        if let Err(error) = self.end_take().await {
            tracing::error!(session = self.show.id, %error, "the take could not be ended properly");
        }
    }

    /// Leaves a take as it is after its disk failed.
    fn abandon(&mut self) {
        if let Some(mut take) = self.take.take() {
            take.record.state = TakeState::CutOff;
            self.note(take.record);
        }
    }

    fn note(&self, record: TakeRecord) {
        if let Some(shown) = self.show.takes.lock().last_mut() {
            shown.clone_from(&record);
        }
        self.ledger.write(Entry::Take(record));
    }
}

impl Take {
    async fn append(&mut self, fragment: Fragment) -> anyhow::Result<()> {
        let size = fragment.size_bytes;
        self.file.append(fragment.segments).await?;
        self.record.size_bytes += size;
        self.record.duration_ms = u64::try_from(self.writer.duration().millis()).unwrap_or(0);
        Ok(())
    }

    async fn finish(&mut self) -> anyhow::Result<()> {
        let (fragment, patches) = self.writer.finish();
        if let Some(fragment) = fragment {
            self.append(fragment).await?;
        }
        self.file.finish(patches).await?;
        Ok(())
    }
}
