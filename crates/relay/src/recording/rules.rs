use std::time::Duration;

use waverant_media::{MediaTime, Packet, TrackKind, Tracks};

use super::NameTemplate;

/// When a channel's sessions are recorded.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum RecordingMode {
    /// From the first packet on.
    #[default]
    Always,
    /// When somebody starts it.
    ByHand,
    /// Never.
    Off,
}

/// When a take ends and the next one begins.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct SplitRules {
    /// After so long.
    pub length: Option<Duration>,
    /// After so many bytes.
    pub size_bytes: Option<u64>,
    /// When a lost publisher is back.
    pub at_return: bool,
}

/// A channel's rules for its recordings.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RecordingRules {
    /// When sessions are recorded.
    pub mode: RecordingMode,
    /// True for Matroska; else MP4.
    pub matroska: bool,
    /// When a take ends and the next one begins.
    pub split: SplitRules,
    /// What files are called.
    pub names: NameTemplate,
    /// How much of what was before goes into a recording that is started by hand.
    pub pre_roll: Duration,
}

/// Decides where a take ends for its length, its size, or the return of a publisher.
#[derive(Clone, Debug)]
pub struct Splitter {
    rules: SplitRules,
    began: Option<MediaTime>,
    bytes: u64,
}

impl Splitter {
    /// For a take that begins with the next packet.
    pub fn new(rules: SplitRules) -> Self {
        Self { rules, began: None, bytes: 0 }
    }

    /// True if a new take is to begin with this packet. `is_return` is told of the first one of a
    /// publisher that was lost. A take begins with a keyframe; where there are no pictures, with any
    /// packet.
    pub fn splits_before(&self, packet: &Packet, tracks: &Tracks, is_return: bool) -> bool {
        let Some(began) = self.began else { return false };
        if tracks.has(TrackKind::Video) && !packet.is_keyframe() {
            return false;
        }
        let too_long = self.rules.length.is_some_and(|length| packet.dts - began >= MediaTime::from_duration(length));
        let too_large = self.rules.size_bytes.is_some_and(|size| self.bytes >= size);
        too_long || too_large || is_return && self.rules.at_return
    }

    /// Counts a packet of the take.
    pub fn count(&mut self, packet: &Packet) {
        self.began.get_or_insert(packet.dts);
        self.bytes += packet.payload.len() as u64;
    }
}

#[cfg(test)]
mod tests {
    use bytes::Bytes;
    use rstest::rstest;
    use waverant_media::{TrackId, testing};

    use super::*;

    fn picture(millis: i64, random_access: bool) -> Packet {
        let time = MediaTime::from_millis(millis);
        let payload = Bytes::from(vec![0; 1000]);
        Packet { track: TrackId::VIDEO, kind: TrackKind::Video, dts: time, pts: time, random_access, payload }
    }

    /// Keyframes every second; where a new take begins.
    fn splits(rules: SplitRules, returns_at: i64) -> Vec<i64> {
        let tracks = testing::h264_and_aac();
        let mut splitter = Splitter::new(rules);
        let mut found = Vec::new();
        for millis in (0..10_000).step_by(100) {
            let packet = picture(millis, millis % 1000 == 0);
            if splitter.splits_before(&packet, &tracks, millis == returns_at) {
                found.push(millis);
                splitter = Splitter::new(rules);
            }
            splitter.count(&packet);
        }
        found
    }

    #[rstest]
    #[case::never(SplitRules::default(), &[])]
    #[case::by_length(SplitRules { length: Some(Duration::from_millis(2500)), ..SplitRules::default() }, &[3000, 6000, 9000])]
    #[case::by_size(SplitRules { size_bytes: Some(35_000), ..SplitRules::default() }, &[4000, 8000])]
    #[case::at_a_return(SplitRules { at_return: true, ..SplitRules::default() }, &[5000])]
    fn takes_are_split_at_keyframes(#[case] rules: SplitRules, #[case] expected: &[i64]) {
        assert_eq!(splits(rules, 5000), expected);
    }

    #[test]
    fn sound_alone_is_split_anywhere() {
        let tracks = testing::tracks([(TrackId::AUDIO, testing::aac())]);
        let mut splitter = Splitter::new(SplitRules { length: Some(Duration::from_secs(1)), ..SplitRules::default() });
        splitter.count(&picture(0, false));
        assert!(splitter.splits_before(&picture(1000, false), &tracks, false));
    }
}
