//! Segments that are too old for memory: a file each, for as long as somebody may go back to it.

use std::fs::{self, File};
use std::io::{self, Write};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Weak};
use std::time::Duration;

use tokio::task::spawn_blocking;
use tokio::time::sleep;
use tokio_util::sync::CancellationToken;
use waverant_media::TrackId;
use waverant_relay::Piece;

use super::Packaging;

/// So long nothing may be new before it is looked for files that are of no use.
const LOOK_INTERVAL: Duration = Duration::from_secs(2);

/// The pause after the disk did not take a segment.
const PAUSE: Duration = Duration::from_secs(5);

/// Where all channels' old segments lie. They are of no use to another start of the service.
#[derive(Clone, Debug)]
pub struct SegmentFolder {
    path: Arc<Path>,
    /// So much stays free on its disk.
    floor_bytes: u64,
}

/// The files of one packaging.
#[derive(Clone, Debug)]
pub(super) struct RunFolder {
    path: PathBuf,
    floor_bytes: u64,
}

/// A segment in its file. It is not held open: viewers that take it slowly would have all descriptors there are.
#[derive(Debug)]
pub struct StoredSegment {
    name: PathBuf,
    /// How much it is, in bytes.
    pub size_bytes: u64,
}

impl SegmentFolder {
    /// The folder, which is made when it is needed.
    pub fn new(path: PathBuf, floor_bytes: u64) -> Self {
        Self { path: path.into(), floor_bytes }
    }

    /// Removes what an earlier start left, which was killed. Blocks.
    ///
    /// # Errors
    /// What the system said.
    pub fn clear(&self) -> io::Result<()> {
        match fs::remove_dir_all(&self.path) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
            _ => Ok(()),
        }
    }

    pub(super) fn of_run(&self, run: u64) -> RunFolder {
        RunFolder { path: self.path.join(run.to_string()), floor_bytes: self.floor_bytes }
    }
}

impl RunFolder {
    fn name(&self, track: TrackId, number: u64) -> PathBuf {
        self.path.join(format!("{}-{number}.m4s", track.0))
    }

    pub(super) fn find(&self, track: TrackId, number: u64) -> io::Result<StoredSegment> {
        let name = self.name(track, number);
        let size_bytes = fs::metadata(&name)?.len();
        Ok(StoredSegment { name, size_bytes })
    }

    fn write(&self, (track, number): (TrackId, u64), piece: &Piece) -> io::Result<()> {
        fs::create_dir_all(&self.path)?;
        let space = rustix::fs::statvfs(&self.path)?;
        let free_bytes = space.f_bavail.saturating_mul(space.f_frsize);
        if free_bytes < self.floor_bytes.saturating_add(piece.size_bytes()) {
            return Err(io::Error::new(io::ErrorKind::StorageFull, "the disk is at its floor"));
        }
        let name = self.name(track, number);
        let written = File::create(&name).and_then(|file| {
            let mut file = io::BufWriter::new(file);
            piece.segments().try_for_each(|bytes| file.write_all(bytes))?;
            file.flush()
        });
        // Half of one is of no use, and would take room where there is none.
        written.inspect_err(|_| _ = fs::remove_file(&name))
    }

    fn remove(&self, useless: &[(TrackId, u64)]) {
        for (track, number) in useless {
            if let Err(error) = fs::remove_file(self.name(*track, *number)) {
                tracing::debug!(track = track.0, number, %error, "an old segment stays on the disk");
            }
        }
    }
}

impl StoredSegment {
    /// Reads from `offset` on. Blocks.
    ///
    /// # Errors
    /// What the system said; also where the segment was removed meanwhile.
    pub fn read_at(&self, offset: u64, into: &mut [u8]) -> io::Result<()> {
        File::open(&self.name)?.read_exact_at(into, offset)
    }
}

/// Takes segments to the disk as they become whole, and removes those that are of no use, until the packaging is over.
pub(super) async fn keep(packaging: Weak<Packaging>, over: CancellationToken) {
    let Some(folder) = packaging.upgrade().and_then(|packaging| packaging.on_disk.clone()) else { return };
    let mut has_failed = false;
    while !over.is_cancelled() {
        let Some(packaging) = packaging.upgrade() else { break };
        let (next, useless) = {
            let mut packager = packaging.packager.lock();
            (packager.next_to_keep(), packager.take_useless())
        };
        let is_idle = next.is_none();
        let files = folder.clone();
        let worked = spawn_blocking(move || {
            files.remove(&useless);
            next.map(|(track, number, piece)| (track, number, files.write((track, number), &piece)))
        });
        if let Ok(Some((track, number, written))) = worked.await {
            packaging.packager.lock().note_kept(track, number, written.is_ok());
            if let Err(error) = &written {
                if !has_failed {
                    tracing::warn!(folder = %folder.path.display(), %error, "viewers cannot go back as far as they should");
                }
                pause(&over, PAUSE).await;
            }
            has_failed = written.is_err();
        }
        if is_idle {
            let news = packaging.wait_for_news(LOOK_INTERVAL);
            tokio::select! {
                () = news => {}
                () = over.cancelled() => {}
            }
        }
    }
    let _ = spawn_blocking(move || fs::remove_dir_all(&folder.path)).await;
}

async fn pause(over: &CancellationToken, length: Duration) {
    tokio::select! {
        () = sleep(length) => {}
        () = over.cancelled() => {}
    }
}
