use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::Path;

use bytes::Bytes;
use waverant_container::Mp4File;
use waverant_store::{Store, StoreError, TakeRecord, TakeState};

/// A `moov` or `moof` box larger than this is not one of ours.
const MAX_BOX: u64 = 16 * 1024 * 1024;

/// Looks at the takes that an earlier run left unfinished, and writes down how much of each is
/// playable. Returns how many there were.
pub(crate) async fn recover_takes(store: &Store, folder: &Path) -> Result<usize, StoreError> {
    let unfinished = store.unfinished_takes().await?;
    for take in &unfinished {
        let path = folder.join(&take.path);
        let outline = tokio::task::spawn_blocking(move || outline(&path)).await;
        let (duration_ms, size_bytes) = match outline.map_err(io::Error::other).flatten() {
            Ok(outline) => outline,
            Err(error) => {
                tracing::warn!(take = take.path, %error, "an unfinished take cannot be read");
                (0, 0)
            }
        };
        tracing::warn!(take = take.path, duration_ms, size_bytes, "this take was cut off; it plays up to there");
        store.write_take(&TakeRecord { state: TakeState::CutOff, duration_ms, size_bytes, ..take.clone() }).await?;
    }
    Ok(unfinished.len())
}

/// Length in milliseconds and size of a take: reads the head and the last whole fragment only.
fn outline(path: &Path) -> io::Result<(u64, u64)> {
    let mut file = File::open(path)?;
    let length = file.metadata()?.len();
    let (mut at, mut movie, mut candidate, mut last) = (0, None, None, None);
    while let Some((name, start, end)) = next_box(&mut file, at, length)? {
        match &name {
            b"moov" => movie = Some((start, end)),
            b"moof" => candidate = Some((start, end)),
            b"mdat" => last = candidate.take().or(last),
            _ => {}
        }
        at = end;
    }
    let (Some(movie), Some(last)) = (movie, last) else { return Ok((0, length)) };
    let (movie, last) = (read_span(&mut file, movie)?, read_span(&mut file, last)?);
    let duration = Mp4File::duration_from_boxes(&movie, &last).map_err(io::Error::other)?;
    Ok((u64::try_from(duration.millis()).unwrap_or(0), length))
}

/// The box at `at` if it is whole: name, begin and end of its content.
fn next_box(file: &mut File, at: u64, length: u64) -> io::Result<Option<([u8; 4], u64, u64)>> {
    if at + 8 > length {
        return Ok(None);
    }
    let mut header = [0; 8];
    file.seek(SeekFrom::Start(at))?;
    file.read_exact(&mut header)?;
    let [a, b, c, d, name @ ..] = header;
    let end = at + u64::from(u32::from_be_bytes([a, b, c, d])).max(8);
    Ok((end <= length).then_some((name, at + 8, end)))
}

fn read_span(file: &mut File, (start, end): (u64, u64)) -> io::Result<Bytes> {
    if end - start > MAX_BOX {
        return Err(io::Error::other("a header box is larger than 16 MiB"));
    }
    let mut content = vec![0; usize::try_from(end - start).unwrap_or(0)];
    file.seek(SeekFrom::Start(start))?;
    file.read_exact(&mut content)?;
    Ok(content.into())
}
