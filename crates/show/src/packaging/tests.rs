use std::io::Read;
use std::path::PathBuf;

use waverant_container::PlaylistCheck;
use waverant_media::testing::h264_and_aac;
use waverant_media::{Packet, TrackKind};
use waverant_relay::Origin;

use super::*;
use crate::feed::Feed;
use crate::testing::{MemoryLedger, context};

/// Pushes pictures `from..to`, 25 a second with a keyframe each second, and 40 ms of sound with each.
fn push(feed: &Feed, numbers: std::ops::Range<i64>) {
    let tracks = Arc::new(h264_and_aac());
    for number in numbers {
        let time = MediaTime::from_millis(number * 40);
        for (track, payload) in [(TrackId::VIDEO, &[0, 0, 0, 1, 0x41][..]), (TrackId::AUDIO, &[1][..])] {
            let random_access = number % 25 == 0 || track == TrackId::AUDIO;
            let (kind, payload) = (track.kind(), payload.to_vec().into());
            let packet = Packet { track, kind, dts: time, pts: time, random_access, payload };
            if kind == TrackKind::Video || number % 2 == 0 {
                feed.push(packet, tracks.clone(), Origin::Show);
            }
        }
    }
    feed.tell_news();
}

fn started(always: bool) -> (ShowContext, Arc<Packaging>) {
    let show = context(Arc::new(MemoryLedger::default()), PathBuf::from("/nowhere"));
    push(show.feeds.live(), 0..150);
    let nowhere = SegmentFolder::new(PathBuf::from("/nowhere"), 0);
    let packaging = Packaging::start(&show, PackagingRules::default(), always, &nowhere);
    (show, packaging)
}

#[tokio::test(start_paused = true)]
async fn the_first_viewer_has_something_to_play_at_once() {
    let (_show, packaging) = started(false);
    let began = clock::now();
    packaging.wait_to_begin(Duration::from_secs(5)).await;
    assert!(clock::now() - began < Duration::from_millis(100));
    let playlist = packaging.playlist(TrackId::VIDEO, false).unwrap();
    let text = String::from_utf8(playlist.plain.to_vec()).unwrap();
    let mut check = PlaylistCheck::default();
    check.read(&text).unwrap();
    assert!(check.segment_count() >= 2, "{text}");
    let again = packaging.playlist(TrackId::VIDEO, false).unwrap();
    assert!(Arc::ptr_eq(&playlist, &again), "it is made once");
    let mut unpacked = String::new();
    flate2::read::GzDecoder::new(&playlist.packed()[..]).read_to_string(&mut unpacked).unwrap();
    assert!(unpacked == text && playlist.packed().len() < text.len() / 2);
    assert!(packaging.multivariant().unwrap().contains(&format!("\n{}/0/index.m3u8\n", packaging.run())));
}

#[tokio::test(start_paused = true)]
async fn who_asks_for_what_comes_next_waits_for_it() {
    let (show, packaging) = started(false);
    packaging.wait_to_begin(Duration::from_secs(5)).await;
    let position = packaging.packager.lock().position(TrackId::VIDEO).unwrap();
    let (number, patience) = (position.segment.unwrap(), Duration::from_secs(3));
    let wait = |number| packaging.wait_for(TrackId::VIDEO, number, None, patience);
    assert_eq!(wait(number + 1).await, Waited::Late);
    assert_eq!(wait(number + 3).await, Waited::Wrong);
    assert_eq!(packaging.wait_for(TrackId(8), 0, None, patience).await, Waited::Wrong);
    let part = PieceName::Part(number + 1, 0);
    assert!(matches!(packaging.wait_to_find(TrackId::VIDEO, part, patience).await, Found::NotYet | Found::Absent));
    let (waited, found, ()) = tokio::join!(
        wait(number + 1),
        packaging.wait_to_find(TrackId::VIDEO, PieceName::Segment(number), patience),
        async {
            tokio::time::sleep(Duration::from_millis(500)).await;
            push(show.feeds.live(), 150..250);
        }
    );
    assert_eq!(waited, Waited::There);
    assert!(matches!(found, Found::Piece(piece) if piece.size_bytes() > 0));
}

#[tokio::test(start_paused = true)]
async fn it_ends_with_the_show_and_wakes_who_waits() {
    let (show, packaging) = started(false);
    packaging.wait_to_begin(Duration::from_secs(5)).await;
    let number = packaging.packager.lock().position(TrackId::VIDEO).unwrap().segment.unwrap();
    let (waited, ()) =
        tokio::join!(packaging.wait_for(TrackId::VIDEO, number + 2, None, Duration::from_secs(60)), async {
            tokio::time::sleep(Duration::from_millis(500)).await;
            show.feeds.end();
        });
    assert_eq!((waited, packaging.has_ended()), (Waited::There, true));
    assert!(packaging.playlist(TrackId::VIDEO, false).unwrap().plain.ends_with(b"#EXT-X-ENDLIST\n"));
}

#[tokio::test(start_paused = true)]
async fn it_stops_when_nobody_asks_unless_it_is_to_go_on() {
    let ((_one, idle), (_other, kept)) = (started(false), started(true));
    tokio::time::sleep(IDLE * 4).await;
    assert!(idle.is_stopped() && !kept.is_stopped());
}

/// What is too old for memory lies on the disk, until nobody can go back to it; a run leaves nothing behind.
#[tokio::test]
async fn what_is_old_lies_on_the_disk() {
    let ground = tempfile::tempdir().unwrap();
    let folder = SegmentFolder::new(ground.path().join("window"), 0);
    let show = context(Arc::new(MemoryLedger::default()), PathBuf::from("/nowhere"));
    let (window, in_memory) = (MediaTime::from_millis(60_000), Some(MediaTime::from_millis(8_000)));
    let rules = PackagingRules { window, in_memory, ..PackagingRules::default() };
    push(show.feeds.live(), 0..50);
    let packaging = Packaging::start(&show, rules, true, &folder);
    let mut stored = None;
    for second in 2..60 {
        push(show.feeds.live(), second * 25..(second + 1) * 25);
        tokio::time::sleep(Duration::from_millis(30)).await;
        if let Found::OnDisk(size) = packaging.find(TrackId::VIDEO, PieceName::Segment(0)) {
            stored = Some(size);
        }
    }
    let size = stored.expect("the first segment is on the disk");
    let found = packaging.find_stored(TrackId::VIDEO, 0).unwrap();
    let mut bytes = vec![0; usize::try_from(size).unwrap()];
    found.read_at(0, &mut bytes).unwrap();
    assert_eq!((found.size_bytes, &bytes[4..8]), (size, &b"moof"[..]));
    assert!(packaging.find_stored(TrackId::VIDEO, 9_999).is_err());
    let files = || std::fs::read_dir(ground.path().join("window")).unwrap().count();
    assert_eq!(files(), 1, "one run");
    show.feeds.end();
    drop(packaging);
    tokio::time::pause();
    tokio::time::sleep(LINGER + Duration::from_secs(5)).await;
    tokio::time::resume();
    for _ in 0..100 {
        if files() == 0 {
            return;
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    panic!("the run left its files behind");
}

#[test]
fn what_a_killed_start_left_is_removed() {
    let ground = tempfile::tempdir().unwrap();
    let path = ground.path().join("window");
    std::fs::create_dir_all(path.join("17")).unwrap();
    let folder = SegmentFolder::new(path.clone(), 0);
    folder.clear().unwrap();
    assert!(!path.exists());
    folder.clear().unwrap();
}
