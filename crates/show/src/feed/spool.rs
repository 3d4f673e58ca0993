use std::collections::VecDeque;
use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;
use std::path::PathBuf;
use std::sync::Arc;

use bytes::Bytes;

/// Size at which a further file is begun. Files that are read are given back to the disk.
const SEGMENT_BYTES: u64 = 8 * 1024 * 1024;

/// Payload bytes in a spool: where they lie.
#[derive(Clone, Debug)]
pub(super) struct Spooled {
    file: Arc<File>,
    offset: u64,
    length: usize,
}

impl Spooled {
    pub(super) fn length(&self) -> usize {
        self.length
    }

    /// True if `next` lies just behind this place, so that one read gets both.
    pub(super) fn is_followed_by(&self, next: &Self) -> bool {
        Arc::ptr_eq(&self.file, &next.file) && self.offset + self.length as u64 == next.offset
    }
}

/// Payloads that wait on the disk for their time. The files have no names: they go when they are
/// read, and when the service is killed.
#[derive(Debug)]
pub(super) struct Spool {
    folder: PathBuf,
    current: Option<(Arc<File>, u64)>,
}

impl Spool {
    pub(super) fn new(folder: PathBuf) -> Self {
        Self { folder, current: None }
    }

    /// Writes payloads one behind the other. Blocks.
    pub(super) fn write(&mut self, payloads: &[Bytes]) -> io::Result<Vec<Spooled>> {
        let (file, start) = match self.current.take() {
            Some((file, end)) if end < SEGMENT_BYTES => (file, end),
            _ => {
                std::fs::create_dir_all(&self.folder)?;
                (Arc::new(tempfile::tempfile_in(&self.folder)?), 0)
            }
        };
        file.write_all_at(&payloads.concat(), start)?;
        let mut offset = start;
        let places = payloads.iter().map(|payload| {
            let place = Spooled { file: file.clone(), offset, length: payload.len() };
            offset += payload.len() as u64;
            place
        });
        let places = places.collect();
        self.current = Some((file, offset));
        Ok(places)
    }
}

/// Reads places that lie one behind the other, with one call. Blocks.
pub(super) fn read(places: &[Spooled]) -> io::Result<VecDeque<Bytes>> {
    let Some(first) = places.first() else { return Ok(VecDeque::new()) };
    let mut whole = vec![0; places.iter().map(Spooled::length).sum()];
    first.file.read_exact_at(&mut whole, first.offset)?;
    let mut whole = Bytes::from(whole);
    Ok(places.iter().map(|place| whole.split_to(place.length)).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn payloads_come_back_and_leave_nothing_behind() {
        let folder = tempfile::tempdir().unwrap();
        let mut spool = Spool::new(folder.path().join("spool"));
        let payload = |number: u32| Bytes::from(number.to_be_bytes().repeat(1000));
        let (mut places, mut expected) = (Vec::new(), Vec::new());
        for round in 0..30 {
            let batch: Vec<Bytes> = (0..100).map(|number| payload(round * 100 + number)).collect();
            places.extend(spool.write(&batch).unwrap());
            expected.extend(batch);
        }
        // One run of places that lie together at a time.
        let (mut got, mut from) = (Vec::new(), 0);
        while from < places.len() {
            let run = 1 + places[from..].windows(2).take_while(|pair| pair[0].is_followed_by(&pair[1])).count();
            got.extend(read(&places[from..from + run]).unwrap());
            from += run;
        }
        assert!(got == expected, "every payload is as it was");
        assert!(spool.current.as_ref().is_some_and(|(_, end)| *end <= SEGMENT_BYTES + 400_000));
        assert_eq!(std::fs::read_dir(folder.path().join("spool")).unwrap().count(), 0);
    }

    #[test]
    fn a_disk_that_fails_says_so() {
        let file = tempfile::NamedTempFile::new().unwrap();
        assert!(Spool::new(file.path().join("below-a-file")).write(&[Bytes::from_static(b"x")]).is_err());
    }
}
