//! Media files of both containers, read group by group: samples stay within the file, whatever is
//! planned from one can be read, and a mended file needs no mending.
#![no_main]

use bytes::Bytes;
use libfuzzer_sys::fuzz_target;
use waverant_container::{FileReader, Selection, plan_progressive, plan_repair, survey};
use waverant_fuzz::within;
use waverant_media::MediaTime;

/// Four million samples of a file without fragments; an input of some kilobytes stays far below.
const BOUND: usize = 512 * 1024 * 1024;

fuzz_target!(|input: &[u8]| {
    within(BOUND, || {
        let file = Bytes::copy_from_slice(input);
        let Ok(mut reader) = FileReader::open(&file) else { return };
        while let Ok(Some(group)) = reader.next_group() {
            for sample in group {
                assert!(sample.track < reader.tracks().len());
                assert!(sample.offset + u64::from(sample.size) <= file.len() as u64);
            }
        }
        let _ = survey(&file, &mut |_| {}).map(|found| found.findings());
        for from in [None, Some(MediaTime::from_millis(500))] {
            let selection = Selection { from, ..Selection::default() };
            if let Ok(layout) = plan_progressive(&file, &selection) {
                let length = usize::try_from(layout.size_bytes).expect("no more than the file and its tables");
                let mut made = vec![0; length];
                layout.read_at(&file, 0, &mut made).expect("all of it is there");
            }
        }
        if let Ok(Some(repair)) = plan_repair(&file) {
            assert!(repair.keep_bytes <= file.len() as u64);
        }
    });
});
