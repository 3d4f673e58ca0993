//! What a small file can make a reader keep, measured by a counting allocator. All in one test,
//! since the counter is one for the process.
#![allow(clippy::unwrap_used, reason = "a test stops at the first surprise")]

use bytes::Bytes;
use peak_alloc::PeakAlloc;
use waverant_container::{FileReader, Mp4File};

#[global_allocator]
static MEMORY: PeakAlloc = PeakAlloc;

fn boxed(name: &[u8; 4], content: &[u8]) -> Vec<u8> {
    [&u32::try_from(content.len() + 8).unwrap().to_be_bytes()[..], name, content].concat()
}

fn words(words: &[u32]) -> Vec<u8> {
    words.iter().flat_map(|word| word.to_be_bytes()).collect()
}

/// A track whose tables say in a few bytes that it has `count` samples of one byte.
fn track(number: u32, count: u32) -> Vec<u8> {
    let tables = [
        boxed(b"stts", &words(&[0, 1, count, 1])),
        boxed(b"stsz", &words(&[0, 1, count])),
        boxed(b"stsc", &words(&[0, 1, 1, count, 1])),
        boxed(b"stco", &words(&[0, 1, 8])),
    ]
    .concat();
    let media = boxed(
        b"mdia",
        &[boxed(b"mdhd", &words(&[0, 0, 0, 90_000, 0, 0])), boxed(b"minf", &boxed(b"stbl", &tables))].concat(),
    );
    boxed(b"trak", &[boxed(b"tkhd", &words(&[1, 0, 0, number, 0, 0])), media].concat())
}

/// A file of `padding` bytes and these tracks.
fn plain(tracks: u32, count: u32, padding: usize) -> Vec<u8> {
    let all: Vec<u8> = (1..=tracks).flat_map(|number| track(number, count)).collect();
    [boxed(b"ftyp", b"isom\0\0\0\0"), boxed(b"moov", &all), boxed(b"mdat", &vec![0; padding])].concat()
}

/// A file with fragments that claim `count` samples each, without a byte for any of them.
fn fragmented(fragments: u32, count: u32, padding: usize) -> Vec<u8> {
    let movie = boxed(b"moov", &[track(1, 0), boxed(b"mvex", &boxed(b"trex", &words(&[0, 1, 1, 1, 1, 0])))].concat());
    let header = boxed(b"tfhd", &words(&[0, 1]));
    let moof = boxed(b"moof", &boxed(b"traf", &[header, boxed(b"trun", &words(&[0, count]))].concat()));
    let each = [moof, boxed(b"mdat", b"x")].concat();
    [boxed(b"ftyp", b"isom\0\0\0\0"), movie, each.repeat(fragments as usize), boxed(b"mdat", &vec![0; padding])]
        .concat()
}

fn peak_of(run: impl FnOnce()) -> usize {
    let before = MEMORY.current_usage();
    MEMORY.reset_peak_usage();
    run();
    MEMORY.peak_usage().saturating_sub(before)
}

/// A slate of 200 kB took 4 GiB: two hundred tracks of one-byte samples.
#[test]
fn a_small_file_stays_small() {
    const BOUND: usize = 48 * 1024 * 1024;
    let files = [
        ("200 tracks", plain(200, 60_000, 60_000)),
        ("64 tracks", plain(64, 60_000, 60_000)),
        ("one track of four billion", plain(1, u32::MAX, 200_000)),
        ("a fragment of four billion", fragmented(1, u32::MAX, 200_000)),
        ("a thousand fragments", fragmented(100, 200_000, 200_000)),
    ];
    for (name, file) in files {
        assert!(file.len() < 400_000, "{name} is small");
        let bytes = Bytes::from(file);
        let peak = peak_of(|| drop(Mp4File::parse(&bytes)));
        assert!(peak < BOUND, "{name} at once: {peak} bytes");
        let peak = peak_of(|| {
            let Ok(mut reader) = FileReader::open(&bytes) else { return };
            while let Ok(Some(_)) = reader.next_group() {}
        });
        assert!(peak < BOUND, "{name} group by group: {peak} bytes");
    }
}
