use std::fs::{self, File, OpenOptions};
use std::io::{self, IoSlice, Write};
use std::os::unix::fs::FileExt;
use std::path::PathBuf;
use std::sync::Arc;

use bytes::{Buf, Bytes};
use waverant_container::Patch;

/// Pieces handed to the kernel in one call.
const MAX_SLICES: usize = 256;

/// A take's file. All work is done off the runtime's threads.
#[derive(Debug)]
pub(super) struct TakeFile {
    file: Arc<File>,
}

impl TakeFile {
    /// Makes the file and its folder; an existing file is never touched.
    pub(super) async fn create(path: PathBuf) -> io::Result<Self> {
        let file = off_the_runtime(move || {
            if let Some(folder) = path.parent() {
                fs::create_dir_all(folder)?;
            }
            OpenOptions::new().write(true).create_new(true).open(path)
        })
        .await?;
        Ok(Self { file: Arc::new(file) })
    }

    /// Appends pieces and makes sure that they are on the disk.
    pub(super) async fn append(&self, pieces: Vec<Bytes>) -> io::Result<()> {
        let file = self.file.clone();
        off_the_runtime(move || {
            write_vectored(&file, pieces)?;
            file.sync_data()
        })
        .await
    }

    /// Applies patches and closes the file.
    pub(super) async fn finish(&self, patches: Vec<Patch>) -> io::Result<()> {
        let file = self.file.clone();
        off_the_runtime(move || {
            for patch in patches {
                file.write_all_at(&patch.bytes, patch.offset)?;
            }
            file.sync_all()
        })
        .await
    }
}

fn write_vectored(mut file: &File, mut pieces: Vec<Bytes>) -> io::Result<()> {
    let mut first = 0;
    while first < pieces.len() {
        let slices: Vec<IoSlice<'_>> =
            pieces[first..].iter().take(MAX_SLICES).map(|piece| IoSlice::new(piece)).collect();
        let mut written = file.write_vectored(&slices)?;
        if written == 0 {
            return Err(io::ErrorKind::WriteZero.into());
        }
        while let Some(piece) = pieces.get_mut(first) {
            let step = written.min(piece.len());
            piece.advance(step);
            written -= step;
            if !piece.is_empty() {
                break;
            }
            first += 1;
        }
    }
    Ok(())
}

async fn off_the_runtime<T: Send + 'static>(work: impl FnOnce() -> io::Result<T> + Send + 'static) -> io::Result<T> {
    tokio::task::spawn_blocking(work).await.map_err(io::Error::other)?
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn pieces_and_patches_arrive() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("channel/take.mp4");
        let file = TakeFile::create(path.clone()).await.unwrap();
        let pieces: Vec<Bytes> = (0..1000u32).map(|number| Bytes::from(number.to_be_bytes().to_vec())).collect();
        file.append(pieces.clone()).await.unwrap();
        file.append(vec![Bytes::from_static(b"end")]).await.unwrap();
        file.finish(vec![Patch { offset: 4, bytes: Bytes::from_static(b"mark") }]).await.unwrap();
        let mut expected = pieces.concat();
        expected.extend(b"end");
        expected[4..8].copy_from_slice(b"mark");
        assert_eq!(fs::read(&path).unwrap(), expected);
        assert!(TakeFile::create(path).await.is_err(), "an existing take is never overwritten");
    }
}
