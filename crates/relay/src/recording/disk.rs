use std::fmt::Debug;
use std::io;
use std::path::Path;
use std::time::Duration;

use bytes::Bytes;
use waverant_container::Patch;

/// Where takes are written, as the recorder sees it. All calls block.
pub trait TakeDisk: Debug + Send + Sync {
    /// Makes a file and its folder; an existing file is never touched.
    ///
    /// # Errors
    /// What the system said.
    fn create(&self, path: &Path) -> io::Result<Box<dyn TakeFile>>;

    /// How much room there is.
    ///
    /// # Errors
    /// What the system said.
    fn outlook(&self) -> io::Result<DiskOutlook>;
}

/// A take's file. All calls block.
pub trait TakeFile: Debug + Send + Sync {
    /// Appends pieces.
    ///
    /// # Errors
    /// What the system said; a part may have been written.
    fn append(&mut self, pieces: Vec<Bytes>) -> io::Result<()>;

    /// Writes over what was appended before.
    ///
    /// # Errors
    /// What the system said.
    fn patch(&mut self, patches: &[Patch]) -> io::Result<()>;

    /// Makes sure that all of it is on the disk.
    ///
    /// # Errors
    /// What the system said.
    fn sync(&mut self) -> io::Result<()>;
}

/// Recording goes on again when so much more than the floor is free.
const MARGIN_BYTES: u64 = 16 * 1024 * 1024;

/// How long the disk of the recordings lasts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct DiskOutlook {
    /// Free for us.
    pub free_bytes: u64,
    /// So much stays free.
    pub floor_bytes: u64,
}

impl DiskOutlook {
    /// How long it lasts at `rate_bps` bits per second. None if nothing is written.
    pub fn time_left(&self, rate_bps: f64) -> Option<Duration> {
        let left = self.free_bytes.saturating_sub(self.floor_bytes);
        #[expect(clippy::cast_precision_loss, reason = "seconds of recording")]
        let seconds = left as f64 * 8.0 / rate_bps;
        (rate_bps > 0.0).then(|| Duration::try_from_secs_f64(seconds).unwrap_or(Duration::MAX))
    }

    /// True if nothing more may be written.
    pub fn is_full(&self) -> bool {
        self.free_bytes <= self.floor_bytes
    }

    /// True if a recording that was stopped can go on.
    pub fn has_room_again(&self) -> bool {
        self.free_bytes > self.floor_bytes.saturating_add(MARGIN_BYTES)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_hour_at_six_megabits_is_2_7_gigabytes() {
        let disk = DiskOutlook { free_bytes: 3_700_000_000, floor_bytes: 1_000_000_000 };
        assert_eq!(disk.time_left(6_000_000.0), Some(Duration::from_secs(3600)));
        assert_eq!(disk.time_left(0.0), None);
        assert!(!disk.is_full() && disk.has_room_again());
    }

    #[test]
    fn a_full_disk_needs_a_margin_to_go_on() {
        let with = |free_bytes| DiskOutlook { free_bytes, floor_bytes: 1000 };
        assert!(with(1000).is_full());
        assert!(!with(1001).is_full() && !with(1001).has_room_again());
        assert!(with(1001 + MARGIN_BYTES).has_room_again());
    }
}
