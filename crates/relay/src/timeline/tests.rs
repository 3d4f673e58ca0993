use proptest::collection::vec;
use proptest::option;
use proptest::prelude::*;

use super::*;

fn key(figure: Figure, of: &str) -> SeriesKey {
    SeriesKey { figure, of: of.to_owned() }
}

fn noted(seconds: Range<u32>) -> Timeline {
    let mut timeline = Timeline::default();
    for second in seconds {
        let mut samples = vec![(key(Figure::Bitrate, ""), 6_000.0 + f64::from(second % 10))];
        if second % 2 == 0 {
            samples.push((key(Figure::LegBehind, "Tindrel"), f64::from(second)));
        }
        timeline.note(second, samples);
    }
    timeline
}

fn means(strip: &Strip, figure: Figure) -> Vec<Option<f64>> {
    let series = strip.series.iter().find(|series| series.key.figure == figure).unwrap();
    series.points.iter().map(|point| point.map(|point| point.mean)).collect()
}

fn read(timeline: &Timeline, seconds: Range<u32>, step_s: u32) -> Strip {
    let mut strip = Strip::new(seconds.clone(), step_s);
    for (start, bytes) in timeline.packed(seconds, step_s) {
        strip.add(&Block::decode(&bytes).unwrap(), start.into());
    }
    strip
}

#[test]
fn each_second_is_had_again() {
    let timeline = noted(0..150);
    let strip = read(&timeline, 57..63, 1);
    assert_eq!((strip.start_s, strip.step_s, strip.count), (57, 1, 6));
    let expected = [6_007.0, 6_008.0, 6_009.0, 6_000.0, 6_001.0, 6_002.0].map(Some);
    assert_eq!(means(&strip, Figure::Bitrate), expected);
    assert_eq!(means(&strip, Figure::LegBehind), [None, Some(58.0), None, Some(60.0), None, Some(62.0)]);
}

#[test]
fn thinned_points_say_the_lowest_the_mean_and_the_highest() {
    let strip = read(&noted(0..700), 590..620, 10);
    let bitrate = &strip.series[0];
    assert_eq!(bitrate.points, vec![Some(Point { low: 6_000.0, mean: 6_005.0, high: 6_009.0 }); 3]);
    assert_eq!(means(&strip, Figure::LegBehind), [594.0, 604.0, 614.0].map(Some));
    let mut wide = read(&noted(0..700), 0..700, 60);
    wide.widen(5);
    assert_eq!((wide.step_s, wide.count), (300, 3), "the last step is as long as what there is");
    assert_eq!(wide.series[0].points[0], Some(Point { low: 6_000.0, mean: 6_005.0, high: 6_009.0 }));
}

#[test]
fn memory_has_two_hours_of_seconds_and_a_day_of_tens() {
    let timeline = noted(0..30 * 3_600);
    let oldest = [1, 10, 60].map(|step| timeline.oldest_s(step));
    assert_eq!(oldest, [28 * 3_600 - 60, 6 * 3_600 - 600, 0]);
    // Two series, 7200 seconds and 8640 tens and 1800 minutes: a value takes a byte or two.
    assert!(timeline.bytes() < 100_000, "{}", timeline.bytes());
}

#[test]
fn what_is_written_is_all_that_was_seen() {
    let mut timeline = Timeline::default();
    let mut kept = std::collections::BTreeMap::new();
    let mut due_at = Vec::new();
    for second in 0..1_500 {
        timeline.note(second, vec![(key(Figure::Bitrate, ""), f64::from(second))]);
        for block in timeline.due() {
            due_at.push((second, block.step_s, block.start_s));
            kept.insert((block.step_s, block.start_s), block.bytes);
        }
    }
    let tens: Vec<u32> = due_at.iter().filter(|due| due.1 == 10).map(|due| due.0).collect();
    assert_eq!(&tens[..3], [60, 120, 180], "a block that grows is told once a minute");
    assert!(due_at.contains(&(600, 10, 0)), "and once more when it is whole: {due_at:?}");
    for block in timeline.finish() {
        kept.insert((block.step_s, block.start_s), block.bytes);
    }
    for step in [10, 60] {
        let mut strip = Strip::new(0..1_500, step);
        let of_step = kept.iter().filter(|((kept, _), _)| *kept == step);
        of_step.for_each(|((_, start), bytes)| strip.add(&Block::decode(bytes).unwrap(), (*start).into()));
        assert_eq!(strip, read(&timeline, 0..1_500, step));
        assert!(strip.series[0].points.iter().all(Option::is_some));
    }
    assert_eq!(timeline.finish().len(), 2, "only what still grows is told again");
}

#[test]
fn a_range_is_told_in_steps_that_are_kept_and_fit() {
    let wanted = |seconds: Range<u32>, points, oldest| {
        let wanted = Wanted::fitting(seconds, points, oldest);
        (wanted.step_s, wanted.factor)
    };
    assert_eq!(wanted(0..600, 600, 0), (1, 1));
    assert_eq!(wanted(0..600, 600, 60), (10, 1), "what is too old is had in tens");
    assert_eq!(wanted(0..601, 600, 0), (10, 1));
    assert_eq!(wanted(0..36_000, 600, 0), (60, 1));
    assert_eq!(wanted(0..86_400, 600, 0), (60, 3));
    assert_eq!(wanted(5..5, 0, 0), (1, 1));
}

#[test]
fn seconds_that_run_back_and_what_is_no_number_are_left_out() {
    let mut timeline = noted(0..100);
    timeline.note(50, vec![(key(Figure::Bitrate, ""), 1.0)]);
    timeline.note(100, vec![(key(Figure::Bitrate, ""), f64::NAN), (key(Figure::Jitter, ""), 2.0)]);
    let strip = read(&timeline, 50..101, 1);
    assert_eq!(means(&strip, Figure::Bitrate)[0], Some(6_000.0));
    assert_eq!(means(&strip, Figure::Bitrate)[50], None);
    assert_eq!(means(&strip, Figure::Jitter)[50], Some(2.0));
}

#[test]
fn a_name_is_cut_between_letters() {
    let series = Series { key: key(Figure::LegBehind, &"ü".repeat(200)), points: vec![None; BLOCK_POINTS] };
    let block = Block { start_s: 0, step_s: 1, series: vec![series] };
    assert_eq!(Block::decode(&block.encode()).unwrap().series[0].key.of, "ü".repeat(127));
}

#[test]
fn what_is_told_at_once_is_bounded() {
    let series = |number: usize| Series {
        key: key(Figure::LegBehind, &number.to_string()),
        points: vec![Some(Point { low: 1.0, mean: 1.0, high: 1.0 }); BLOCK_POINTS],
    };
    let block = Block { start_s: 0, step_s: 60, series: (0..4000).map(series).collect() };
    let mut strip = Strip::new(0..20_000 * 60, 60);
    strip.add(&Block::decode(&block.encode()).unwrap(), 0);
    assert_eq!((strip.count, strip.series.len()), (20_000, 150));
}

proptest! {
    #[test]
    fn a_block_is_had_again_as_it_was_to_within_half_a_quantum(
        start_s in any::<u32>(), step_s in prop_oneof![Just(1u32), Just(10), Just(60)],
        values in vec(option::of((-1e6..1e6f64, 0.0..1e3f64, 0.0..1e3f64)), BLOCK_POINTS),
    ) {
        let spread = f64::from(u8::from(step_s > 1));
        let point = |(mean, below, above): (f64, f64, f64)| Point { low: mean - below * spread, mean, high: mean + above * spread };
        let points: Vec<Option<Point>> = values.into_iter().map(|value| value.map(point)).collect();
        let series = |figure| Series { key: key(figure, "3"), points: points.clone() };
        let block = Block { start_s, step_s, series: vec![series(Figure::Loudness), series(Figure::Bitrate)] };
        let again = Block::decode(&block.encode()).unwrap();
        prop_assert_eq!((again.start_s, again.step_s, again.series.len()), (start_s, step_s, 2));
        for (before, after) in block.series.iter().zip(&again.series) {
            let half = before.key.figure.quantum() * 0.5001;
            for (before, after) in before.points.iter().zip(&after.points) {
                prop_assert_eq!(before.is_some(), after.is_some());
                let Some((before, after)) = before.zip(*after) else { continue };
                for (before, after) in [(before.low, after.low), (before.mean, after.mean), (before.high, after.high)] {
                    prop_assert!((before - after).abs() <= half, "{} {}", before, after);
                }
            }
        }
    }

    #[test]
    fn any_bytes_are_a_block_or_an_error(bytes in vec(any::<u8>(), 0..400), is_marked in any::<bool>()) {
        let mut bytes = bytes;
        if let (true, Some(first)) = (is_marked, bytes.first_mut()) {
            *first = 1;
        }
        if let Ok(block) = Block::decode(&bytes) {
            let mut strip = Strip::new(block.start_s..block.start_s.saturating_add(100), block.step_s);
            strip.add(&block, block.start_s.into());
            prop_assert!(block.series.iter().all(|series| series.points.len() == BLOCK_POINTS));
        }
    }
}
