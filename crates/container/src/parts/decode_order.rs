use std::collections::{BTreeMap, VecDeque};

use waverant_media::MediaTime;

/// The most pictures that a stream reorders.
///
/// Source: ISO/IEC 14496-10, A.3.1 (16 frames in the decoded picture buffer)
const MAX_REORDER: usize = 16;

/// Finds decode times for pictures whose container tells presentation times only, in decode order.
///
/// The nth picture is decoded when the nth picture is shown, less a constant delay that makes no
/// picture be decoded after it is shown. The delay is found from the first pictures.
#[derive(Debug)]
pub(crate) struct DecodeOrder<T> {
    /// Pictures that wait for the ones behind them, in decode order.
    waiting: VecDeque<(MediaTime, T)>,
    /// Presentation times that were not used yet, with how often each occurs.
    unused: BTreeMap<MediaTime, usize>,
    delay: Option<MediaTime>,
    last: Option<MediaTime>,
    /// The most pictures that one is decoded before though they are shown first.
    depth: usize,
}

impl<T> Default for DecodeOrder<T> {
    fn default() -> Self {
        Self::with_depth(MAX_REORDER)
    }
}

impl<T> DecodeOrder<T> {
    /// For pictures that at most `depth` others overtake. So many wait; twice as many at the start, so
    /// that the delay is right from the first picture on.
    pub(crate) fn with_depth(depth: usize) -> Self {
        Self { waiting: VecDeque::new(), unused: BTreeMap::new(), delay: None, last: None, depth }
    }

    /// Takes a picture; `out` gets those whose decode time is known now.
    pub(crate) fn push(&mut self, pts: MediaTime, picture: T, out: &mut impl FnMut(MediaTime, MediaTime, T)) {
        self.waiting.push_back((pts, picture));
        *self.unused.entry(pts).or_default() += 1;
        while self.waiting.len() > if self.delay.is_some() { self.depth } else { 2 * self.depth } {
            self.pop(self.waiting.len() - self.depth, out);
        }
    }

    /// Gives out what waits.
    pub(crate) fn finish(&mut self, out: &mut impl FnMut(MediaTime, MediaTime, T)) {
        while !self.waiting.is_empty() {
            self.pop(self.waiting.len(), out);
        }
        self.last = None;
    }

    /// For the first `settled` of what waits no picture that is shown before can follow any more.
    fn pop(&mut self, settled: usize, out: &mut impl FnMut(MediaTime, MediaTime, T)) {
        let delay = *self.delay.get_or_insert_with(|| needed_delay(&self.waiting, settled));
        let Some((pts, picture)) = self.waiting.pop_front() else { return };
        let smallest = self.unused.first_entry().map(|mut entry| {
            let time = *entry.key();
            *entry.get_mut() -= 1;
            if *entry.get() == 0 {
                entry.remove();
            }
            time
        });
        let wanted = (smallest.unwrap_or(pts) - delay).min(pts);
        // Never back, even where a picture comes later than any reordering explains.
        let dts = self.last.map_or(wanted, |last| wanted.max(last));
        self.last = Some(dts);
        out(dts, pts, picture);
    }
}

/// How much earlier than the nth shown picture the nth decoded one must be.
fn needed_delay<T>(waiting: &VecDeque<(MediaTime, T)>, settled: usize) -> MediaTime {
    let mut sorted: Vec<MediaTime> = waiting.iter().map(|(pts, _)| *pts).collect();
    sorted.sort_unstable();
    let late = sorted.iter().zip(waiting).take(settled).map(|(nth, (pts, _))| *nth - *pts);
    late.max().unwrap_or_default().max(MediaTime::ZERO)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn found(times: &[i64]) -> Vec<(i64, i64)> {
        let (mut order, mut out) = (DecodeOrder::default(), Vec::new());
        let mut each = |dts: MediaTime, pts: MediaTime, ()| out.push((dts.millis(), pts.millis()));
        for time in times {
            order.push(MediaTime::from_millis(*time), (), &mut each);
        }
        order.finish(&mut each);
        out
    }

    #[test]
    fn pictures_without_reordering_are_decoded_when_they_are_shown() {
        let times: Vec<i64> = (0..100).map(|n| n * 40).collect();
        assert!(found(&times).iter().all(|(dts, pts)| dts == pts));
    }

    #[test]
    fn reordered_pictures_get_a_constant_delay() {
        // I0 P3 B1 B2 P6 B4 B5 and so on, 40 ms each.
        let times: Vec<i64> = [0].into_iter().chain((0..33).flat_map(|n| [3 * n + 3, 3 * n + 1, 3 * n + 2])).collect();
        let found = found(&times.iter().map(|n| n * 40).collect::<Vec<_>>());
        let expected: Vec<i64> = (0..100).map(|n| (n - 1) * 40).collect();
        assert_eq!(found.iter().map(|(dts, _)| *dts).collect::<Vec<_>>(), expected);
    }

    proptest! {
        #[test]
        fn times_never_go_back_and_nothing_is_lost(times in proptest::collection::vec(0i64..5000, 0..200)) {
            let found = found(&times);
            prop_assert!(found.is_sorted_by_key(|(dts, _)| *dts));
            prop_assert_eq!(found.iter().map(|(_, pts)| *pts).collect::<Vec<_>>(), times);
        }
    }
}
