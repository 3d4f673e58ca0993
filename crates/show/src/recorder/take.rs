//! One take while it is written.

use std::io;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

use waverant_container::{FileFormat, FileHead, FileWriter, Fragment};
use waverant_media::{MediaTime, Packet, Tracks};
use waverant_relay::{DiskOutlook, Splitter, TakeDisk, TakeFile, TakeMark, TakeRecord};

use crate::clock;

/// What was written is on the disk this long after it was; a power cut loses so much.
const SYNC_INTERVAL: Duration = Duration::from_millis(900);

/// Names that are taken get a number; so many are tried.
const MAX_NAMES: u32 = 1000;

/// A take that is being written.
#[derive(Debug)]
pub(super) struct Take {
    writer: FileWriter,
    /// None while a write is on its way.
    file: Option<Box<dyn TakeFile>>,
    disk: Arc<dyn TakeDisk>,
    pub(super) tracks: Arc<Tracks>,
    pub(super) record: TakeRecord,
    pub(super) splitter: Splitter,
    last_pts: Option<MediaTime>,
    synced_at: Instant,
    /// Marks on the session's timeline that have no place in the file yet.
    new_marks: Vec<(MediaTime, String)>,
}

/// What a take begins with.
pub(super) struct TakeStart {
    pub(super) format: FileFormat,
    pub(super) tracks: Arc<Tracks>,
    /// Its path is that of the name, without an extension.
    pub(super) record: TakeRecord,
    pub(super) title: String,
    pub(super) splitter: Splitter,
}

impl Take {
    /// Makes the file under the first name that is free.
    pub(super) async fn begin(disk: Arc<dyn TakeDisk>, start: TakeStart) -> anyhow::Result<Self> {
        let TakeStart { format, tracks, mut record, title, splitter } = start;
        let began_ms = i64::try_from(record.started_at.unix_timestamp_nanos() / 1_000_000).ok();
        let writer = FileWriter::new(format, &tracks, &FileHead { began_ms, title: Some(title) })?;
        let (stem, maker) = (record.path.clone(), disk.clone());
        let (file, path) = off_the_runtime(move || create(maker.as_ref(), &stem, format)).await?;
        record.path = path;
        Ok(Self {
            writer,
            file: Some(file),
            disk,
            tracks,
            record,
            splitter,
            last_pts: None,
            synced_at: clock::now(),
            new_marks: Vec::new(),
        })
    }

    /// Where the last packet was presented.
    pub(super) fn last_pts(&self) -> Option<MediaTime> {
        self.last_pts
    }

    /// Points out a moment of the session's timeline.
    pub(super) fn mark(&mut self, at: MediaTime, title: &str) {
        self.writer.mark(at, title);
        self.new_marks.push((at, title.to_owned()));
    }

    /// Takes a packet, and writes when it completes a fragment. True if something was written.
    pub(super) async fn push(&mut self, packet: &Packet) -> anyhow::Result<bool> {
        self.splitter.count(packet);
        let fragment = self.writer.push(packet)?;
        self.last_pts = self.last_pts.max(Some(packet.pts));
        match fragment {
            Some(fragment) => self.append(fragment).await.map(|()| true),
            None => Ok(false),
        }
    }

    /// Writes the last fragment, the index, and what belongs into the head.
    pub(super) async fn finish(&mut self) -> anyhow::Result<()> {
        let (fragment, patches) = self.writer.finish();
        if let Some(mut fragment) = fragment {
            fragment.patches.extend(patches);
            // All of it is to be on the disk.
            self.synced_at = self.synced_at.checked_sub(SYNC_INTERVAL).unwrap_or(self.synced_at);
            self.append(fragment).await?;
        }
        Ok(())
    }

    async fn append(&mut self, fragment: Fragment) -> anyhow::Result<()> {
        let mut file = self.file.take().ok_or_else(|| anyhow::anyhow!("an earlier write failed"))?;
        let syncs = clock::now().saturating_duration_since(self.synced_at) >= SYNC_INTERVAL;
        let (size, disk) = (fragment.size_bytes, self.disk.clone());
        let written = off_the_runtime(move || {
            check_room(&disk.outlook()?, fragment.size_bytes)?;
            file.append(fragment.segments)?;
            file.patch(&fragment.patches)?;
            if syncs {
                file.sync()?;
            }
            Ok(file)
        });
        self.file = Some(written.await?);
        if syncs {
            self.synced_at = clock::now();
        }
        self.record.size_bytes += size;
        self.record.duration_ms = u64::try_from(self.writer.duration().millis()).unwrap_or(0);
        for (at, title) in self.new_marks.drain(..) {
            let at_ms = u64::try_from(self.writer.file_time(at).millis()).unwrap_or(0);
            self.record.marks.push(TakeMark { at_ms, title });
        }
        Ok(())
    }
}

/// A disk without room says so before it is full to the last byte.
fn check_room(outlook: &DiskOutlook, size_bytes: u64) -> io::Result<()> {
    let after = DiskOutlook { free_bytes: outlook.free_bytes.saturating_sub(size_bytes), ..*outlook };
    if outlook.floor_bytes > 0 && after.is_full() {
        let told = format!(
            "only {} MB are free, and {} MB stay free",
            outlook.free_bytes / 1_000_000,
            outlook.floor_bytes / 1_000_000
        );
        return Err(io::Error::new(io::ErrorKind::StorageFull, told));
    }
    Ok(())
}

fn create(disk: &dyn TakeDisk, stem: &str, format: FileFormat) -> io::Result<(Box<dyn TakeFile>, String)> {
    let extension = format.extension();
    check_room(&disk.outlook()?, 0)?;
    for number in 1..=MAX_NAMES {
        let path = match number {
            1 => format!("{stem}.{extension}"),
            number => format!("{stem} ({number}).{extension}"),
        };
        match disk.create(&PathBuf::from(&path)) {
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
            created => return created.map(|file| (file, path)),
        }
    }
    Err(io::Error::new(io::ErrorKind::AlreadyExists, format!("{stem} and {MAX_NAMES} names like it are taken")))
}

pub(super) async fn off_the_runtime<T: Send + 'static>(
    work: impl FnOnce() -> io::Result<T> + Send + 'static,
) -> io::Result<T> {
    tokio::task::spawn_blocking(work).await.map_err(io::Error::other)?
}
