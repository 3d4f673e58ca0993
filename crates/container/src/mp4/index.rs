//! The index at the end of a fragmented file: where a player can start.
//!
//! Source: ISO/IEC 14496-12, 8.8.9 to 8.8.11

use bytes::Bytes;

use super::boxes::BoxWriter;

/// A fragment with a sync sample.
#[derive(Clone, Copy, Debug)]
struct SyncPoint {
    time: u64,
    moof_at: u64,
    traf_number: u32,
    sample_number: u32,
}

/// Where the sync samples of one track are, one for each fragment.
#[derive(Clone, Debug)]
pub(super) struct RandomAccess {
    track_number: u32,
    entries: Vec<SyncPoint>,
}

impl RandomAccess {
    pub(super) fn new(track_number: u32) -> Self {
        Self { track_number, entries: Vec::new() }
    }

    pub(super) fn is_of(&self, track_number: u32) -> bool {
        self.track_number == track_number
    }

    /// Notes a sync sample, presented at `time` of its track's clock. Numbers count from 1.
    pub(super) fn note(&mut self, time: i64, moof_at: u64, traf_number: u32, sample_number: u32) {
        if self.entries.last().is_none_or(|last| last.moof_at != moof_at) {
            let time = u64::try_from(time).unwrap_or(0);
            self.entries.push(SyncPoint { time, moof_at, traf_number, sample_number });
        }
    }

    /// The `mfra` box.
    pub(super) fn write(&self) -> Bytes {
        let mut out = BoxWriter::new();
        out.boxed(b"mfra", |out| {
            out.full_box(b"tfra", 1, 0, |out| {
                // Numbers of fragment, run and sample have four bytes each.
                out.u32(self.track_number).u32(0x3f);
                out.u32(u32::try_from(self.entries.len()).unwrap_or(u32::MAX));
                for entry in &self.entries {
                    out.u64(entry.time).u64(entry.moof_at).u32(entry.traf_number).u32(1).u32(entry.sample_number);
                }
            });
            out.full_box(b"mfro", 0, 0, |out| {
                // The length of the whole box, so that it is found from the end: this field ends it.
                out.u32(u32::try_from(out.len() + 4).unwrap_or(u32::MAX));
            });
        });
        out.into_bytes().into()
    }
}
