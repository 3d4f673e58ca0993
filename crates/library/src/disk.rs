//! The recordings folder, and takes as the readers of containers see them.

use std::fs::{self, File, OpenOptions};
use std::io::{self, IoSlice, Write};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

use bytes::{Buf, Bytes};
use waverant_container::{Patch, Source};
use waverant_relay::{DiskOutlook, TakeDisk, TakeFile};

/// Pieces handed to the kernel in one call.
const MAX_SLICES: usize = 256;

/// Name of the file by which the recordings folder is known. Where it is missing, the disk is not
/// mounted that belongs there.
const MARK: &str = ".waverant-recordings";

/// The recordings folder.
#[derive(Clone, Debug)]
pub struct RecordingsFolder {
    /// Where it is.
    pub path: PathBuf,
    /// So much stays free on its disk.
    pub floor_bytes: u64,
}

impl RecordingsFolder {
    /// Looks for the folder's mark. Blocks.
    ///
    /// # Errors
    /// That the folder's mark is missing, or cannot be seen.
    pub fn check_mark(&self) -> io::Result<()> {
        fs::metadata(self.path.join(MARK)).map(|_| ()).map_err(|error| {
            let told = format!(
                "{} has no file {MARK} ({error}): is its disk mounted? If this folder is meant to begin anew, make that file",
                self.path.display()
            );
            io::Error::new(io::ErrorKind::NotFound, told)
        })
    }

    /// Marks the folder, unless it must be another one: takes are known, and none of them is here.
    ///
    /// # Errors
    /// What the system said if the mark cannot be written.
    pub fn make_mark(&self, known: &[PathBuf]) -> io::Result<()> {
        let has_some = known.iter().any(|path| self.path.join(path).exists());
        if self.check_mark().is_ok() || !(known.is_empty() || has_some) {
            return Ok(());
        }
        fs::write(self.path.join(MARK), "Waverant keeps its takes here, and knows the folder by this file.\n")
    }

    /// Removes a file that was made here and is of no use. Blocks.
    pub(crate) fn remove(&self, path: &Path) -> io::Result<()> {
        fs::remove_file(self.path.join(path))
    }
}

impl TakeDisk for RecordingsFolder {
    fn create(&self, path: &Path) -> io::Result<Box<dyn TakeFile>> {
        self.check_mark()?;
        let path = self.path.join(path);
        if let Some(folder) = path.parent() {
            fs::create_dir_all(folder)?;
        }
        let file = OpenOptions::new().write(true).create_new(true).open(&path)?;
        // The name is to survive a power cut as well.
        if let Some(folder) = path.parent() {
            File::open(folder)?.sync_all()?;
        }
        Ok(Box::new(OpenFile(file)))
    }

    fn outlook(&self) -> io::Result<DiskOutlook> {
        let space = rustix::fs::statvfs(&self.path)?;
        let free_bytes = space.f_bavail.saturating_mul(space.f_frsize);
        Ok(DiskOutlook { free_bytes, floor_bytes: self.floor_bytes })
    }
}

#[derive(Debug)]
struct OpenFile(File);

impl TakeFile for OpenFile {
    fn append(&mut self, pieces: Vec<Bytes>) -> io::Result<()> {
        write_vectored(&self.0, pieces)
    }

    fn patch(&mut self, patches: &[Patch]) -> io::Result<()> {
        patches.iter().try_for_each(|patch| self.0.write_all_at(&patch.bytes, patch.offset))
    }

    fn sync(&mut self) -> io::Result<()> {
        self.0.sync_data()
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

/// A file of the disk as the readers of containers see it.
#[derive(Debug)]
pub struct FileSource {
    file: File,
    length: u64,
}

impl FileSource {
    /// Opens a file. Blocks.
    ///
    /// # Errors
    /// What the system said.
    pub fn open(path: &Path) -> io::Result<Self> {
        let file = File::open(path)?;
        let length = file.metadata()?.len();
        Ok(Self { file, length })
    }
}

impl Source for FileSource {
    fn len(&self) -> u64 {
        self.length
    }

    fn read_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        self.file.read_exact_at(buffer, offset)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pieces_and_patches_arrive() {
        let folder = tempfile::tempdir().unwrap();
        let disk = RecordingsFolder { path: folder.path().to_owned(), floor_bytes: 0 };
        disk.make_mark(&[]).unwrap();
        let path = Path::new("channel/take.mp4");
        let mut file = disk.create(path).unwrap();
        let pieces: Vec<Bytes> = (0..1000u32).map(|number| Bytes::from(number.to_be_bytes().to_vec())).collect();
        file.append(pieces.clone()).unwrap();
        file.append(vec![Bytes::from_static(b"end")]).unwrap();
        file.patch(&[Patch { offset: 4, bytes: Bytes::from_static(b"mark") }]).unwrap();
        file.sync().unwrap();
        let mut expected = pieces.concat();
        expected.extend(b"end");
        expected[4..8].copy_from_slice(b"mark");
        let source = FileSource::open(&folder.path().join(path)).unwrap();
        let mut found = vec![0; usize::try_from(source.len()).unwrap()];
        source.read_at(0, &mut found).unwrap();
        assert_eq!(found, expected);
        assert!(disk.create(path).is_err(), "an existing take is never overwritten");
        assert!(disk.outlook().unwrap().free_bytes > 0);
    }
}
