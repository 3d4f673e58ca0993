//! A window that is longer than memory: what is old lies on a disk, which may be slow or fail.

use std::collections::BTreeMap;
use std::sync::Arc;

use proptest::prelude::*;
use waverant_container::{PieceName, PlaylistCheck};
use waverant_media::testing::h264_and_aac;
use waverant_media::{MediaTime, TrackId};

use super::tests::{MINUTE, clock, show};
use super::{Found, Packager, PackagingRules};

const PICTURE: i64 = 3_600;

/// The limit of the rules, and the part that is being collected.
const MOST: u64 = (256 + 16) * 1024;

fn rules(window_minutes: i64) -> PackagingRules {
    let window = MediaTime::from_ticks(window_minutes * MINUTE);
    let in_memory = Some(MediaTime::from_millis(20_000));
    PackagingRules { window, in_memory, max_bytes: 256 * 1024, ..PackagingRules::default() }
}

/// A disk that takes what it is given, or says no.
#[derive(Default)]
struct Disk {
    there: BTreeMap<(TrackId, u64), Vec<u8>>,
    most: usize,
}

impl Disk {
    /// Takes up to `count` segments, and forgets what is of no use.
    fn work(&mut self, packager: &mut Packager, count: usize, is_good: bool) {
        for _ in 0..count {
            let Some((id, number, piece)) = packager.next_to_keep() else { break };
            if is_good {
                self.there.insert((id, number), piece.segments().flatten().copied().collect());
            }
            packager.note_kept(id, number, is_good);
        }
        self.most = self.most.max(self.there.len());
        for useless in packager.take_useless() {
            assert!(self.there.remove(&useless).is_some(), "{useless:?} was never there");
        }
    }

    /// Every segment that playlists tell can be had, from memory or from here; returns how many are told.
    fn check(&self, packager: &Packager, id: TrackId) -> usize {
        let Some(text) = packager.playlist(id, false) else { return 0 };
        let numbers = text.lines().filter_map(|line| line.strip_suffix(".m4s")?.parse::<u64>().ok());
        let count = numbers.map(|number| {
            let size = match packager.find(id, PieceName::Segment(number)) {
                Found::Piece(piece) => piece.size_bytes(),
                Found::OnDisk(size) => {
                    let bytes = self.there.get(&(id, number)).unwrap_or_else(|| panic!("{number} is nowhere"));
                    assert_eq!(bytes.len() as u64, size);
                    size
                }
                other => panic!("{number} is told and cannot be had: {other:?}"),
            };
            assert!(size > 0);
        });
        count.count()
    }
}

fn ids(packager: &Packager) -> Vec<TrackId> {
    packager.tracks.keys().copied().collect()
}

#[test]
fn minutes_back_takes_little_memory() {
    let tracks = Arc::new(h264_and_aac());
    let (mut packager, mut disk) = (Packager::new(rules(4), clock()), Disk::default());
    let mut checks: BTreeMap<TrackId, PlaylistCheck> = BTreeMap::new();
    let (mut most_bytes, mut seen) = (0, 0);
    for entry in show(&tracks, 10 * MINUTE, PICTURE, 50) {
        packager.push(&entry);
        disk.work(&mut packager, 2, true);
        most_bytes = most_bytes.max(packager.held_bytes());
        if packager.version() >= seen + 40 {
            seen = packager.version();
            for id in ids(&packager) {
                disk.check(&packager, id);
                let text = packager.playlist(id, false).unwrap();
                checks.entry(id).or_default().read(&text).unwrap();
            }
        }
    }
    assert!(most_bytes < 200 * 1024, "{most_bytes} bytes");
    for id in ids(&packager) {
        // Two seconds each.
        let told = disk.check(&packager, id);
        assert!((118..=124).contains(&told), "{told} are told");
        let parts = packager.playlist(id, false).unwrap().matches("#EXT-X-PART:").count();
        assert!(parts > 5, "parts of the newest are told all the same");
    }
    // What a playlist told can be fetched for as long again.
    assert!((2 * 235..=2 * 250).contains(&disk.most), "{} were there", disk.most);
    packager.finish();
    assert!(ids(&packager).into_iter().all(|id| packager.playlist(id, false).unwrap().ends_with("#EXT-X-ENDLIST\n")));
}

#[test]
fn a_disk_that_fails_makes_the_window_short_and_nothing_else() {
    let tracks = Arc::new(h264_and_aac());
    let (mut packager, mut disk) = (Packager::new(rules(6), clock()), Disk::default());
    let mut check = PlaylistCheck::default();
    for (at, entry) in show(&tracks, 9 * MINUTE, PICTURE, 50).iter().enumerate() {
        packager.push(entry);
        // It is good for three minutes, and then no more.
        disk.work(&mut packager, 2, entry.packet.dts < MediaTime::from_ticks(3 * MINUTE));
        assert!(packager.held_bytes() <= MOST, "{} bytes", packager.held_bytes());
        if at % 500 == 0 {
            ids(&packager).into_iter().for_each(|id| _ = disk.check(&packager, id));
        }
    }
    let text = packager.playlist(TrackId::VIDEO, false).unwrap();
    check.read(&text).unwrap();
    assert!(text.matches("#EXTINF").count() >= 4, "{text}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]

    /// Whatever the disk does, and however late: what is told can be had, and what is on the disk is told or was.
    #[test]
    fn what_is_told_can_be_had(turns in prop::collection::vec((0_usize..4, prop::bool::weighted(0.8)), 40..120)) {
        let tracks = Arc::new(h264_and_aac());
        let (mut packager, mut disk) = (Packager::new(rules(2), clock()), Disk::default());
        let all = show(&tracks, 4 * MINUTE, PICTURE, 50);
        for (entries, (count, is_good)) in all.chunks(all.len() / turns.len() + 1).zip(turns) {
            entries.iter().for_each(|entry| packager.push(entry));
            disk.work(&mut packager, count * 4, is_good);
            prop_assert!(packager.held_bytes() <= MOST);
            ids(&packager).into_iter().for_each(|id| _ = disk.check(&packager, id));
        }
    }
}
