use super::SYNC_BYTE;
use super::packet::PACKET_LENGTH;

/// Packets with nothing around them, with a time stamp before them, and with a check sum behind.
const STRIDES: [usize; 3] = [188, 192, 204];

/// Sync bytes in a row that are taken for packets.
const CONFIRMATIONS: usize = 3;

/// The most that is kept of bytes among which no packet is found.
const MAX_HELD: usize = 16 * 1024;

/// Finds packets in bytes that may be cut anywhere, have something between the packets, or be
/// damaged.
#[derive(Debug, Default)]
pub(super) struct Alignment {
    held: Vec<u8>,
    stride: Option<usize>,
    /// Bytes behind the last packet that are still to come, and to be passed over.
    gap: usize,
    pub(super) skipped_bytes: u64,
    pub(super) lost_count: u64,
}

impl Alignment {
    /// Takes bytes, and gives each packet in them to `take`; None where none was in its place, so
    /// that the one before is not to be trusted.
    pub(super) fn push(&mut self, bytes: &[u8], mut take: impl FnMut(Option<&[u8; PACKET_LENGTH]>)) {
        // What comes in whole packets, as it nearly always does, is not copied.
        if self.held.is_empty() {
            let used = self.run(bytes, &mut take);
            self.held.extend_from_slice(&bytes[used..]);
        } else {
            let mut held = std::mem::take(&mut self.held);
            held.extend_from_slice(bytes);
            let used = self.run(&held, &mut take);
            held.drain(..used);
            self.held = held;
        }
        let excess = self.held.len().saturating_sub(MAX_HELD);
        self.held.drain(..excess);
        self.skipped_bytes += excess as u64;
    }

    /// Takes packets from the start of `bytes`; returns how many bytes are done with.
    fn run(&mut self, bytes: &[u8], take: &mut impl FnMut(Option<&[u8; PACKET_LENGTH]>)) -> usize {
        let mut at = self.gap.min(bytes.len());
        self.gap -= at;
        loop {
            let Some(stride) = self.stride else {
                let Some((start, stride)) = find(&bytes[at..]) else { return at };
                self.skipped_bytes += start as u64;
                at += start;
                self.stride = Some(stride);
                continue;
            };
            let Some(packet) = bytes[at..].first_chunk() else { return at };
            if packet[0] != SYNC_BYTE {
                self.stride = None;
                self.lost_count += 1;
                take(None);
                continue;
            }
            take(Some(packet));
            // What stands between packets may still be on its way.
            self.gap = (at + stride).saturating_sub(bytes.len());
            at = (at + stride).min(bytes.len());
        }
    }
}

/// The first place from which on sync bytes stand at one of the strides.
fn find(bytes: &[u8]) -> Option<(usize, usize)> {
    let candidates = bytes.iter().enumerate().filter(|(_, byte)| **byte == SYNC_BYTE).map(|(start, _)| start);
    for start in candidates {
        for stride in STRIDES {
            let places = (1..CONFIRMATIONS).map(|count| start + count * stride);
            if places.into_iter().all(|place| bytes.get(place) == Some(&SYNC_BYTE)) {
                return Some((start, stride));
            }
        }
    }
    None
}
