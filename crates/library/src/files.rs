//! What can be fetched of a take: the file itself, or one that is laid out from it on the fly.

use std::io;
use std::sync::Arc;

use waverant_container::{FileReader, Layout, Selection, Source, plan_progressive};
use waverant_media::{MediaTime, Track};
use waverant_relay::TakeState;
use waverant_store::StoredTake;

use crate::{FileSource, Library, LibraryError};

/// What is wanted of a take.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Variant {
    /// The file as it was recorded.
    Recorded,
    /// Plain MP4 with all tracks, from one time to another.
    Progressive {
        /// In milliseconds.
        from_ms: Option<u64>,
        /// In milliseconds.
        to_ms: Option<u64>,
    },
    /// One sound alone, by its place among the tracks of sound, counted from 1.
    Sound(u8),
}

/// Bytes that can be fetched, and what is known of them.
#[derive(Clone, Debug)]
pub struct TakeBytes {
    source: Arc<FileSource>,
    layout: Option<Arc<Layout>>,
    /// How many.
    pub length: u64,
    /// What they are.
    pub media_type: &'static str,
    /// A strong validator; none while the file still grows.
    pub etag: Option<String>,
    /// What a file of them is called.
    pub file_name: String,
    /// Of the file as it was recorded.
    pub sha256: Option<[u8; 32]>,
}

impl TakeBytes {
    /// How long a file plays that was laid out from another.
    pub(crate) fn duration_ms(&self) -> u64 {
        self.layout.as_ref().map_or(0, |layout| u64::try_from(layout.duration.millis()).unwrap_or(0))
    }

    /// Reads a piece. Blocks.
    ///
    /// # Errors
    /// What the system said.
    pub fn read_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        match &self.layout {
            Some(layout) => layout.read_at(self.source.as_ref(), offset, buffer),
            None => self.source.read_at(offset, buffer),
        }
    }
}

impl Library {
    /// The tracks of sound of a take, in order.
    ///
    /// # Errors
    /// [`LibraryError`] if the file is not there or cannot be read.
    pub async fn sounds(&self, take: &StoredTake) -> Result<Vec<Track>, LibraryError> {
        let read = |source: FileSource| Ok(sounds_of(&FileReader::open(&source)?));
        self.with_file(take, read).await
    }

    /// Makes a variant of a take ready to be fetched.
    ///
    /// # Errors
    /// [`LibraryError`] if the file is not there, or has not what is wanted.
    pub async fn bytes(&self, take: &StoredTake, variant: Variant) -> Result<TakeBytes, LibraryError> {
        let (card, record) = (take.card.clone(), &take.record);
        let is_growing = record.state == TakeState::Writing;
        let name = record.path.rsplit('/').next().unwrap_or(&record.path).to_owned();
        let stem = name.rsplit_once('.').map_or(name.as_str(), |(stem, _)| stem).to_owned();
        let id = (record.session_id, record.number);
        let known = |tag: &str| self.layouts.find(tag);
        let began_ms = i64::try_from(record.started_at.unix_timestamp_nanos() / 1_000_000).ok();
        let source = self.with_file(take, Ok).await?;
        // The length tells repaired and growing files apart; a take is otherwise never changed.
        let base = match card.sha256 {
            Some(digest) => hex(&digest[..16]),
            None => format!("{}-{}-{:x}", id.0, id.1, source.len()),
        };
        let source = Arc::new(source);
        let tag = match &variant {
            Variant::Recorded => base,
            Variant::Progressive { from_ms, to_ms } => {
                let shown = |time: &Option<u64>| time.map_or_else(String::new, |time| time.to_string());
                format!("{base}-p{}-{}", shown(from_ms), shown(to_ms))
            }
            Variant::Sound(place) => format!("{base}-s{place}"),
        };
        let etag = (!is_growing).then(|| format!("\"{tag}\""));
        if variant == Variant::Recorded {
            let length = source.len();
            let media_type = if name.ends_with(".mkv") { "video/x-matroska" } else { "video/mp4" };
            return Ok(TakeBytes {
                source,
                layout: None,
                length,
                media_type,
                etag,
                file_name: name,
                sha256: card.sha256,
            });
        }
        let layout = match known(&tag) {
            Some(layout) => layout,
            None => {
                let (from, wanted) = (source.clone(), variant.clone());
                let planned = tokio::task::spawn_blocking(move || plan(from.as_ref(), &wanted, began_ms)).await;
                let layout = Arc::new(planned??);
                self.layouts.remember(tag, layout.clone());
                layout
            }
        };
        let (file_name, media_type) = match &variant {
            Variant::Sound(place) => (format!("{stem}_sound-{place}.m4a"), "audio/mp4"),
            Variant::Progressive { from_ms: None, to_ms: None } => (format!("{stem}.mp4"), "video/mp4"),
            _ => (format!("{stem}_cut.mp4"), "video/mp4"),
        };
        let length = layout.size_bytes;
        Ok(TakeBytes { source, layout: Some(layout), length, media_type, etag, file_name, sha256: None })
    }
}

fn plan(source: &FileSource, variant: &Variant, began_ms: Option<i64>) -> Result<Layout, LibraryError> {
    let time =
        |millis: Option<u64>| millis.map(|millis| MediaTime::from_millis(i64::try_from(millis).unwrap_or(i64::MAX)));
    let selection = match variant {
        Variant::Recorded => Selection { began_ms, ..Selection::default() },
        Variant::Progressive { from_ms, to_ms } => {
            Selection { from: time(*from_ms), to: time(*to_ms), began_ms, tracks: Vec::new() }
        }
        Variant::Sound(place) => {
            let reader = FileReader::open(source)?;
            let sounds = sounds_of(&reader);
            let wanted = usize::from(*place).checked_sub(1).and_then(|place| sounds.get(place));
            let missing = || format!("there is no sound {place}; the take has {} tracks of sound", sounds.len());
            Selection {
                tracks: vec![wanted.ok_or_else(|| LibraryError::File(missing()))?.id],
                began_ms,
                ..Selection::default()
            }
        }
    };
    let layout = plan_progressive(source, &selection)?;
    if layout.extents.is_empty() {
        return Err(LibraryError::File("nothing of the take lies between these times".to_owned()));
    }
    Ok(layout)
}

fn sounds_of<S: Source>(reader: &FileReader<S>) -> Vec<Track> {
    let tracks = reader.tracks().iter().map(|track| &track.track);
    tracks.filter(|track| track.codec.sound().is_some()).cloned().collect()
}

pub(crate) fn hex(bytes: &[u8]) -> String {
    use std::fmt::Write as _;
    bytes.iter().fold(String::new(), |mut text, byte| {
        let _ = write!(text, "{byte:02x}");
        text
    })
}
