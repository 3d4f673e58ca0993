#![expect(clippy::disallowed_methods, reason = "one start instant is taken, then only added to")]

use std::time::{Duration, Instant};

use proptest::prelude::*;
use rstest::rstest;

use super::*;

const WIDE: Room = Room { link: None, channel: None, house: 1000, uplink: None };

fn by(way: Way, device: u64) -> Newcomer {
    Newcomer { channel: 1, link: None, address: 9, device, way }
}

fn crowd(viewers: impl IntoIterator<Item = Newcomer>, now: Instant) -> Crowd {
    let mut crowd = Crowd::default();
    for newcomer in viewers {
        crowd.enter(now, newcomer, |_| WIDE).unwrap();
    }
    crowd
}

#[test]
fn who_fetches_counts_once_and_for_as_long_as_it_asks() {
    let begin = Instant::now();
    let mut crowd = Crowd::default();
    for second in 0..60 {
        let now = begin + Duration::from_secs(second);
        crowd.enter(now, by(Way::Segments, 1), |_| WIDE).unwrap();
        crowd.sweep(now);
        assert_eq!(crowd.counts(1).total(), 1);
    }
    crowd.sweep(begin + Duration::from_secs(79));
    assert_eq!(crowd.counts(1).segments, 1);
    crowd.sweep(begin + Duration::from_secs(80));
    assert_eq!(crowd.counts(1), ViewerCounts::default());
}

#[test]
fn who_stays_counts_until_it_leaves() {
    let now = Instant::now();
    let mut crowd = crowd([by(Way::Pictures, 1), by(Way::Srt, 2)], now);
    let id = crowd.enter(now, by(Way::Stream, 1), |_| WIDE).unwrap().id;
    crowd.sweep(now + Duration::from_secs(3600));
    assert_eq!(crowd.counts(1), ViewerCounts { pictures: 1, srt: 1, stream: 1, ..Default::default() });
    crowd.leave(id);
    crowd.leave(id);
    assert_eq!(crowd.counts(1).total(), 2);
}

#[rstest]
#[case::link(Room { link: Some(2), ..WIDE }, NoRoom::Link)]
#[case::channel(Room { channel: Some(2), ..WIDE }, NoRoom::Channel)]
#[case::house(Room { house: 2, ..WIDE }, NoRoom::House)]
#[case::uplink(Room { uplink: Some(0), ..WIDE }, NoRoom::Uplink)]
fn nobody_is_seated_beyond_what_there_is(#[case] room: Room, #[case] expected: NoRoom) {
    let now = Instant::now();
    let of = |device| Newcomer { link: Some(5), ..by(Way::Segments, device) };
    let mut crowd = crowd([of(1), of(2)], now);
    assert_eq!(crowd.enter(now, of(3), |_| room), Err(expected));
    assert!(!crowd.would_seat(of(3), &room));
    // Who has a seat keeps it.
    assert!(crowd.enter(now, of(1), |_| room).is_ok());
    assert_eq!((crowd.counts(1).segments, crowd.by_link(5)), (2, 2));
}

/// A player whose connection broke comes again, by another way, before the break is seen here.
#[test]
fn who_comes_again_takes_its_own_seat() {
    let (now, room) = (Instant::now(), Room { channel: Some(2), ..WIDE });
    let mut crowd = crowd([by(Way::Pictures, 1), by(Way::Pictures, 2)], now);
    assert!(crowd.would_seat(by(Way::Segments, 1), &room));
    let seated = crowd.enter(now, by(Way::Segments, 1), |_| room).unwrap();
    assert!(seated.replaced.is_some_and(|replaced| replaced < seated.id));
    assert_eq!(crowd.counts(1), ViewerCounts { pictures: 1, segments: 1, ..Default::default() });
    assert_eq!(crowd.enter(now, by(Way::Segments, 3), |_| room), Err(NoRoom::Channel));
}

/// A machine that calls itself something else with each request takes seventeen seats, not all.
#[test]
fn one_address_takes_few_seats() {
    let now = Instant::now();
    let many = (0..5000).map(|device| by(Way::Segments, 100 + device));
    let crowd = crowd(many, now);
    assert_eq!(crowd.counts(1).segments, 17);
    assert!(crowd.would_seat(Newcomer { address: 10, ..by(Way::Segments, 7) }, &Room { house: 18, ..WIDE }));
}

#[test]
fn peaks_are_told_once() {
    let now = Instant::now();
    let mut crowd = crowd([by(Way::Pictures, 1), by(Way::Rtmp, 2)], now);
    let id = crowd.enter(now, by(Way::Pictures, 3), |_| WIDE).unwrap().id;
    crowd.leave(id);
    assert_eq!(crowd.take_peaks(), [(1, ViewerCounts { pictures: 2, rtmp: 1, ..Default::default() })]);
    assert_eq!(crowd.take_peaks(), [(1, ViewerCounts { pictures: 1, rtmp: 1, ..Default::default() })]);
}

#[rstest]
#[case::room(10_000_000, 3_000_000.0, 2_000_000.0, 3)]
#[case::none(10_000_000, 8_000_000.0, 2_000_000.0, 0)]
#[case::beyond(10_000_000, 80_000_000.0, 2_000_000.0, 0)]
#[case::nothing_known_of_the_stream(1_000_000, 0.0, 0.0, 900_000)]
fn the_uplink_carries_so_many(#[case] carries: u64, #[case] taken: f64, #[case] stream: f64, #[case] expected: u32) {
    assert_eq!(Room::viewers_of(carries, taken, stream), expected);
}

#[derive(Clone, Debug)]
enum Step {
    Enter(Newcomer),
    Leave(usize),
    Pass(u64),
}

fn step() -> impl Strategy<Value = Step> {
    let way = prop::sample::select(vec![Way::Segments, Way::Pictures, Way::Rtmp]);
    let newcomer = (0..3u64, prop::option::of(0..2u64), 0..3u64, 0..40u64, way);
    let newcomer = newcomer.prop_map(|(channel, link, address, device, way)| Newcomer {
        channel,
        link,
        address,
        device: address * 1000 + device,
        way,
    });
    prop_oneof![6 => newcomer.prop_map(Step::Enter), 2 => (0..100usize).prop_map(Step::Leave), 1 => (0..30u64).prop_map(Step::Pass)]
}

proptest! {
    /// Whatever comes and goes: the counts are those of who sits, no bound is passed, and nothing is left behind.
    #[test]
    fn counts_are_of_who_sits(steps in prop::collection::vec(step(), 0..300)) {
        let room = Room { link: Some(6), channel: Some(12), house: 20, uplink: None };
        let (mut crowd, mut now, mut stay) = (Crowd::default(), Instant::now(), Vec::new());
        for step in steps {
            match step {
                Step::Enter(newcomer) => if let Ok(Seated { id, replaced }) = crowd.enter(now, newcomer, |_| room) {
                    stay.retain(|other| Some(*other) != replaced);
                    if newcomer.way != Way::Segments { stay.push(id); }
                },
                Step::Leave(at) => if !stay.is_empty() { crowd.leave(stay.swap_remove(at % stay.len())); },
                Step::Pass(seconds) => { now += Duration::from_secs(seconds); crowd.sweep(now); }
            }
            let total: u32 = crowd.channels().map(|(_, counts)| counts.total()).sum();
            prop_assert!(total <= 20 && (0..3).all(|channel| crowd.counts(channel).total() <= 12));
            prop_assert!((0..2).all(|link| crowd.by_link(link) <= 6));
            let staying: u32 = crowd.channels().map(|(_, counts)| counts.total() - counts.segments).sum();
            prop_assert_eq!(staying as usize, stay.len());
        }
        stay.into_iter().for_each(|id| crowd.leave(id));
        crowd.sweep(now + Duration::from_secs(60));
        crowd.take_peaks();
        prop_assert!(crowd.channels().next().is_none() && crowd.take_peaks().is_empty());
        prop_assert!((0..2).all(|link| crowd.by_link(link) == 0));
        let none = Room { house: 0, ..WIDE };
        prop_assert!(!crowd.would_seat(by(Way::Rtmp, 1), &none));
    }
}
