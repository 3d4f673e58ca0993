use super::word_at;
use crate::number::SeqNumber;

/// The body of an acknowledgement (§3.2.4). A light one has the number only, a small one
/// everything up to the free buffer.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Acknowledgement {
    /// The packet that is waited for: all before it have come or are given up.
    pub(crate) next_expected: SeqNumber,
    pub(crate) path: Option<PathReport>,
    pub(crate) rates: Option<RateReport>,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct PathReport {
    pub(crate) rtt_us: u32,
    pub(crate) rtt_variance_us: u32,
    /// Packets that the receiver has room for.
    pub(crate) free_packets: u32,
}

#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct RateReport {
    pub(crate) packets_per_second: u32,
    pub(crate) capacity_packets_per_second: u32,
    pub(crate) bytes_per_second: u32,
}

impl Acknowledgement {
    /// None if not even the number is there.
    pub(crate) fn parse(body: &[u8]) -> Option<Self> {
        let next_expected = SeqNumber::new(word_at(body, 0)?);
        let path = || {
            let (rtt_us, rtt_variance_us) = (word_at(body, 4)?, word_at(body, 8)?);
            Some(PathReport { rtt_us, rtt_variance_us, free_packets: word_at(body, 12)? })
        };
        let rates = || {
            let (packets_per_second, capacity_packets_per_second) = (word_at(body, 16)?, word_at(body, 20)?);
            Some(RateReport { packets_per_second, capacity_packets_per_second, bytes_per_second: word_at(body, 24)? })
        };
        Some(Self { next_expected, path: path(), rates: rates() })
    }

    pub(crate) fn write(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&self.next_expected.get().to_be_bytes());
        let Some(path) = self.path else { return };
        for word in [path.rtt_us, path.rtt_variance_us, path.free_packets] {
            out.extend_from_slice(&word.to_be_bytes());
        }
        let Some(rates) = self.rates else { return };
        for word in [rates.packets_per_second, rates.capacity_packets_per_second, rates.bytes_per_second] {
            out.extend_from_slice(&word.to_be_bytes());
        }
    }
}
