//! Stills of takes: a keyframe, or a strip of them.

use std::fs;
use std::path::PathBuf;

use waverant_codec::{Hand, Still, strip};
use waverant_container::{FileReader, SampleRef, Source};
use waverant_media::{CodecParameters, TrackKind};
use waverant_store::StoredTake;

use crate::library::open;
use crate::{FileSource, Library, LibraryError};

/// Stills in a strip, and how wide each is.
const STRIP_COUNT: usize = 5;
const STRIP_WIDTH: usize = 240;

/// How wide a single still is at most.
const STILL_WIDTH: usize = 1280;

/// A keyframe that is larger is not read.
const MAX_KEYFRAME: u32 = 16 * 1024 * 1024;

/// What decoding a picture may take of memory: the largest that is decoded, in planes and in colours.
const PICTURE_BYTES: u64 = 96 * 1024 * 1024;

impl Library {
    /// Works on the pictures of a take where that costs no show anything.
    async fn with_pictures<T: Send + 'static>(
        &self,
        take: &StoredTake,
        work: impl FnOnce(&mut Hand, FileSource) -> Result<T, LibraryError> + Send + 'static,
    ) -> Result<T, LibraryError> {
        let (path, name) = (self.path_of(take), take.record.path.clone());
        self.codec.run(PICTURE_BYTES, move |hand| work(hand, open(&path, name)?)).await?
    }

    /// The strip of a take as JPEG. It is made once and kept.
    ///
    /// # Errors
    /// [`LibraryError`] if the file is not there, or none of its pictures can be decoded.
    pub async fn strip(&self, take: &StoredTake) -> Result<Vec<u8>, LibraryError> {
        let kept = self.strip_path(take);
        if let Ok(bytes) = tokio::fs::read(&kept).await
            && !bytes.is_empty()
        {
            return Ok(bytes);
        }
        self.with_pictures(take, move |hand, source| {
            let (codec, keys) = keyframes(&source)?;
            let chosen = (0..STRIP_COUNT).map(|number| keys.get(number * keys.len() / STRIP_COUNT));
            let mut error = None;
            let stills: Vec<Option<Still>> = chosen
                .map(|key| {
                    let still = decode(hand, &source, &codec, (key?, STRIP_WIDTH));
                    still.map_err(|found| error = Some(found)).ok()
                })
                .collect();
            if let (true, Some(error)) = (stills.iter().all(Option::is_none), error) {
                return Err(error);
            }
            let jpeg = strip(&stills, STRIP_WIDTH).to_jpeg().map_err(unusable)?;
            keep(&kept, &jpeg);
            Ok(jpeg)
        })
        .await
    }

    /// The picture that is shown at a time (in milliseconds), or the keyframe before it, as JPEG.
    ///
    /// # Errors
    /// [`LibraryError`] if the file is not there, or the picture cannot be decoded.
    pub async fn still(&self, take: &StoredTake, at_ms: u64) -> Result<Vec<u8>, LibraryError> {
        self.with_pictures(take, move |hand, source| {
            let (codec, keys) = keyframes(&source)?;
            let is_before = |key: &&SampleRef| u64::try_from(key.pts.millis()).unwrap_or(0) <= at_ms;
            let key = keys.iter().rev().find(is_before).or(keys.first());
            let key = key.ok_or_else(|| unusable("the take has no keyframe"))?;
            decode(hand, &source, &codec, (key, STILL_WIDTH))?.to_jpeg().map_err(unusable)
        })
        .await
    }

    pub(crate) fn strip_path(&self, take: &StoredTake) -> PathBuf {
        let record = &take.record;
        let name = format!("{}-{}-{:x}.jpg", record.session_id, record.number, record.size_bytes);
        self.stills_folder.join(name)
    }
}

/// The codec of the first track of pictures, and its keyframes.
fn keyframes(source: &FileSource) -> Result<(CodecParameters, Vec<SampleRef>), LibraryError> {
    let mut reader = FileReader::open(source)?;
    let place = reader.tracks().iter().position(|track| track.track.codec.kind() == TrackKind::Video);
    let place = place.ok_or_else(|| unusable("the take has no pictures"))?;
    let codec = reader.tracks()[place].track.codec.clone();
    let mut keys = Vec::new();
    while let Some(group) = reader.next_group()? {
        keys.extend(group.into_iter().filter(|sample| sample.track == place && sample.sync));
    }
    Ok((codec, keys))
}

/// A keyframe, no wider than told.
fn decode(
    hand: &mut Hand,
    source: &FileSource,
    codec: &CodecParameters,
    (key, width): (&SampleRef, usize),
) -> Result<Still, LibraryError> {
    if key.size > MAX_KEYFRAME {
        return Err(unusable(format!("the keyframe has {} bytes", key.size)));
    }
    let mut payload = vec![0; key.size as usize];
    source.read_at(key.offset, &mut payload).map_err(unusable)?;
    hand.still(codec, payload.into(), width).map_err(unusable)
}

fn unusable(error: impl ToString) -> LibraryError {
    LibraryError::File(error.to_string())
}

/// A strip that cannot be kept is made again the next time.
fn keep(path: &PathBuf, jpeg: &[u8]) {
    let fresh = path.with_extension("new");
    let kept = path.parent().map_or(Ok(()), fs::create_dir_all);
    if let Err(error) = kept.and_then(|()| fs::write(&fresh, jpeg)).and_then(|()| fs::rename(&fresh, path)) {
        tracing::warn!(path = %path.display(), %error, "a strip cannot be kept");
    }
}
