use std::fs;
use std::io;
use std::path::PathBuf;
use std::sync::atomic::{AtomicU64, Ordering};

use bytes::Bytes;
use waverant_container::Mp4File;
use waverant_media::{Packet, Track, TrackId, Tracks};
use waverant_relay::Slate;

/// The largest slate that is taken.
pub(crate) const MAX_SLATE_BYTES: usize = 64 * 1024 * 1024;

/// The uploaded slates, one for each channel at most.
#[derive(Debug)]
pub(crate) struct SlateShelf {
    folder: PathBuf,
    /// Counts changes, so that running sessions notice them.
    version: AtomicU64,
}

impl SlateShelf {
    pub(super) fn new(folder: PathBuf) -> Self {
        Self { folder, version: AtomicU64::new(0) }
    }

    /// Another number after each change.
    pub(crate) fn version(&self) -> u64 {
        self.version.load(Ordering::Acquire)
    }

    /// The slate of a channel. Blocks.
    ///
    /// # Errors
    /// In words.
    pub(crate) fn uploaded(&self, channel_id: u64) -> Result<Slate, String> {
        match fs::read(self.path(channel_id)) {
            Ok(bytes) => read_slate(&bytes.into()),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Err("none was uploaded".to_owned()),
            Err(error) => Err(format!("it cannot be read: {error}")),
        }
    }

    /// Keeps the slate of a channel. Blocks.
    pub(crate) fn keep(&self, channel_id: u64, bytes: &[u8]) -> io::Result<()> {
        fs::create_dir_all(&self.folder)?;
        let (path, fresh) = (self.path(channel_id), self.folder.join(format!("{channel_id}.new")));
        // Beside its place and renamed: a show never reads half of it.
        fs::write(&fresh, bytes).and_then(|()| fs::rename(&fresh, &path))?;
        self.version.fetch_add(1, Ordering::Release);
        Ok(())
    }

    /// Removes the slate of a channel; false if there is none. Blocks.
    pub(crate) fn remove(&self, channel_id: u64) -> io::Result<bool> {
        match fs::remove_file(self.path(channel_id)) {
            Ok(()) => {
                self.version.fetch_add(1, Ordering::Release);
                Ok(true)
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(false),
            Err(error) => Err(error),
        }
    }

    fn path(&self, channel_id: u64) -> PathBuf {
        self.folder.join(format!("{channel_id}.mp4"))
    }
}

/// Reads an MP4 file as a slate.
///
/// # Errors
/// In words.
pub(crate) fn read_slate(bytes: &Bytes) -> Result<Slate, String> {
    let file = Mp4File::parse(bytes).map_err(|error| format!("it cannot be read as MP4: {error}"))?;
    if file.truncated {
        return Err("the file is cut off; upload it again".to_owned());
    }
    let length = file.duration();
    let (mut tracks, mut packets) = (Tracks::new(), Vec::new());
    for track in &file.tracks {
        let Some(codec) = &track.codec else { continue };
        // Foreign files number their tracks as they like.
        let kind = codec.kind();
        let place = tracks.iter().filter(|known| known.codec.kind() == kind).count();
        let Some(id) = u8::try_from(place).ok().and_then(|place| TrackId::at(kind, place)) else { continue };
        tracks.set(Track::new(id, codec.clone()));
        packets.extend(track.samples.iter().map(|sample| Packet {
            track: id,
            kind,
            dts: sample.dts,
            pts: sample.pts,
            random_access: sample.sync,
            payload: sample.payload.clone(),
        }));
    }
    Slate::new(tracks, packets, length).map_err(|error| error.to_string())
}
