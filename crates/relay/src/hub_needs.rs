use waverant_media::MediaTime;

use crate::HubLimits;

/// What is kept beyond what is needed: readers are a moment behind what they need.
const MARGIN: MediaTime = MediaTime::from_millis(2_000);

/// What the readers of a show need of its hub.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct HubNeeds {
    /// How far keyframes are apart; none if it is not known yet.
    pub keyframe_spacing: Option<MediaTime>,
    /// How far a reader may fall behind before it jumps.
    pub behind: MediaTime,
    /// How far back a reader may want to begin.
    pub back: MediaTime,
}

impl HubNeeds {
    /// As much as that, and never more than `most`; all of it where it is not known how far keyframes are apart.
    pub fn limits(&self, most: HubLimits) -> HubLimits {
        let Some(spacing) = self.keyframe_spacing else { return most };
        // Who begins so far back begins at a keyframe, which may be one spacing older. Who is behind in the middle of
        // a long group goes on to its end.
        let length = self.behind.max(self.back + spacing) + MARGIN;
        HubLimits { max_length: length.min(most.max_length), ..most }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::legs_alone(Some(2000), 6000, 0, 8000)]
    #[case::long_groups(Some(10_000), 6000, 0, 12_000)]
    #[case::a_disk_that_may_stall(Some(2000), 15_000, 0, 17_000)]
    #[case::a_pre_roll(Some(2000), 6000, 10_000, 14_000)]
    #[case::never_more_than_there_may_be(Some(4000), 6000, 20_000, 20_000)]
    #[case::nothing_is_known_yet(None, 6000, 0, 20_000)]
    fn a_hub_keeps_what_its_readers_need(
        #[case] spacing: Option<i64>,
        #[case] behind: i64,
        #[case] back: i64,
        #[case] expected: i64,
    ) {
        let (behind, back) = (MediaTime::from_millis(behind), MediaTime::from_millis(back));
        let needs = HubNeeds { keyframe_spacing: spacing.map(MediaTime::from_millis), behind, back };
        assert_eq!(needs.limits(HubLimits::default()).max_length, MediaTime::from_millis(expected));
    }
}
