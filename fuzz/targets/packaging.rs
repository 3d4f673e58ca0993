//! What an encoder's times, sizes and changes make of playlists: whatever it sends, they keep the rules, what they tell
//! can be had, and memory stays bounded. A window on a disk too, which may fail at any time.
#![no_main]

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use libfuzzer_sys::fuzz_target;
use time::OffsetDateTime;
use waverant_container::{PieceName, PlaylistCheck};
use waverant_fuzz::within;
use waverant_media::testing::{aac, h264, h264_and_aac, tracks};
use waverant_media::{MediaTime, Packet, TrackId};
use waverant_relay::{Cursor, Found, Hub, HubLimits, Origin, OutsideShow, Packager, PackagingRules, WallClock};

const BOUND: usize = 48 * 1024 * 1024;

/// Of the rules, and what is collected besides. With little memory playlists become shorter than they should be; with
/// much they keep all rules.
const LITTLE: u64 = 256 * 1024;
const MUCH: u64 = 32 * 1024 * 1024;
const COLLECTED: u64 = 64 * 1024;

fn packet(step: &[u8; 4], at: &mut i64) -> Packet {
    let [what, time, size, _] = *step;
    let track = if what & 1 == 0 { TrackId::VIDEO } else { TrackId::AUDIO };
    // Mostly small steps, now and then a leap or one back.
    *at += match what >> 5 {
        0 => i64::from(time) * 90_000,
        1 => -i64::from(time) * 900,
        _ => i64::from(time) * 30,
    };
    let dts = MediaTime::from_ticks((*at).max(0));
    let pts = dts + MediaTime::from_ticks(i64::from(what & 0x1e) * 3_600);
    let payload = vec![0; 5 + usize::from(size) * 40].into();
    Packet { track, kind: track.kind(), dts, pts, random_access: what & 2 != 0, payload }
}

fuzz_target!(|input: &[u8]| {
    within(BOUND, || {
        let Some((rule, rest)) = input.split_first() else { return };
        let has_little = rule & 4 == 0;
        let max_bytes = if has_little { LITTLE } else { MUCH };
        let usual = PackagingRules { max_bytes, ..PackagingRules::default() };
        let rules = PackagingRules {
            part: (rule & 1 == 0).then_some(MediaTime::from_millis(200)),
            in_memory: (rule & 2 == 0).then_some(MediaTime::from_millis(8_000)),
            window: MediaTime::from_millis(10_000 + i64::from(*rule) * 400),
            ..usual
        };
        let clock = WallClock { at: MediaTime::ZERO, date: OffsetDateTime::UNIX_EPOCH };
        let (mut packager, mut outside) = (Packager::new(rules, clock), OutsideShow::new(rules.window));
        let sets = [
            Arc::new(h264_and_aac()),
            Arc::new(tracks([(TrackId::VIDEO, h264())])),
            Arc::new(tracks([(TrackId::AUDIO, aac())])),
        ];
        let (mut at, mut set) = (0, 0);
        // Packets come as viewers' readers get them.
        let (mut hub, mut cursor, mut read) =
            (Hub::new(HubLimits::default()), Cursor::from_beginning(MediaTime::from_millis(20_000)), Vec::new());
        let mut checks: BTreeMap<TrackId, PlaylistCheck> = BTreeMap::new();
        let mut disk: BTreeSet<(TrackId, u64)> = BTreeSet::new();
        for step in rest.as_chunks::<4>().0 {
            if step[3] == 250 {
                set = usize::from(step[2]) % sets.len();
            }
            let packet = packet(step, &mut at);
            if sets[set].get(packet.track).is_some() {
                let origin = if step[3] > 250 { Origin::Returned } else { Origin::Show };
                hub.push(packet, sets[set].clone(), origin);
            }
            hub.read(&mut cursor, 64, &mut read);
            read.drain(..).for_each(|entry| packager.push(&entry));
            assert!(packager.held_bytes() <= max_bytes + COLLECTED, "{} bytes", packager.held_bytes());
            if let Some((id, number, _)) = packager.next_to_keep() {
                let is_there = step[3] & 7 != 0;
                if is_there {
                    disk.insert((id, number));
                }
                packager.note_kept(id, number, is_there);
            }
            packager.take_useless().iter().for_each(|useless| assert!(disk.remove(useless)));
            if step[3] & 1 == 0 {
                for (id, segment) in outside.next(&packager) {
                    outside.tell(id, segment.told);
                }
                outside.take_useless();
            }
            for id in [TrackId::VIDEO, TrackId::AUDIO] {
                let Some(text) = packager.playlist(id, false) else { continue };
                if !has_little {
                    checks.entry(id).or_default().read(&text).unwrap_or_else(|fault| panic!("{fault} in\n{text}"));
                }
                for number in text.lines().filter_map(|line| line.strip_suffix(".m4s")?.parse().ok()) {
                    match packager.find(id, PieceName::Segment(number)) {
                        Found::Piece(_) => {}
                        Found::OnDisk(_) => assert!(disk.contains(&(id, number))),
                        other => panic!("{number} is told and cannot be had: {other:?}"),
                    }
                }
            }
        }
    });
});
