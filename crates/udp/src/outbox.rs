/// Collects data packets of one length to one peer, so that they leave with one call.
///
/// Control packets leave alone: whoever captures at the sender's machine sees what is joined as one
/// datagram, and a handshake with something behind it looks damaged there.
#[derive(Debug, Default)]
pub struct Outbox {
    bytes: Vec<u8>,
    segment: usize,
    count: usize,
    is_closed: bool,
}

/// The most that one call may carry.
const MAX_BYTES: usize = 60_000;

impl Outbox {
    /// Adds a datagram that `write` appends; returns its length. `flush` is called before, if the
    /// datagram does not go with those that wait.
    pub fn add(
        &mut self,
        max_segments: usize,
        write: impl FnOnce(&mut Vec<u8>) -> Option<usize>,
        mut flush: impl FnMut(&[u8], usize),
    ) -> Option<usize> {
        let start = self.bytes.len();
        let length = write(&mut self.bytes)?;
        let is_control = self.bytes.get(start).is_some_and(|first| first & 0x80 != 0);
        let fits = length <= self.segment
            && !self.is_closed
            && !is_control
            && self.count < max_segments
            && start + length <= MAX_BYTES;
        if self.count > 0 && !fits {
            flush(&self.bytes[..start], self.segment);
            self.bytes.drain(..start);
            self.count = 0;
        }
        if self.count == 0 {
            (self.segment, self.is_closed) = (length, false);
        }
        self.count += 1;
        // A shorter datagram can only be the last.
        self.is_closed = is_control || length < self.segment;
        Some(length)
    }

    /// Gives what waits to `flush`.
    pub fn finish(&mut self, mut flush: impl FnMut(&[u8], usize)) {
        if self.count > 0 {
            flush(&self.bytes, self.segment);
        }
        self.bytes.clear();
        self.count = 0;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::equal(&[5, 5, 5], 10, &[(15, 5)])]
    #[case::shorter_at_the_end(&[5, 5, 3, 5], 10, &[(13, 5), (5, 5)])]
    #[case::longer(&[3, 5, 5], 10, &[(3, 3), (10, 5)])]
    #[case::many(&[5, 5, 5], 2, &[(10, 5), (5, 5)])]
    fn data_packets_are_joined(#[case] lengths: &[usize], #[case] most: usize, #[case] expected: &[(usize, usize)]) {
        assert_eq!(sent(&lengths.iter().map(|length| (*length, 0)).collect::<Vec<_>>(), most), expected);
    }

    #[test]
    fn control_packets_leave_alone() {
        let sent = sent(&[(5, 0x80), (5, 0x80), (5, 0), (3, 0), (3, 0x80), (3, 0)], 10);
        assert_eq!(sent, [(5, 5), (5, 5), (8, 5), (3, 3), (3, 3)]);
    }

    /// Lengths of what leaves, with that of its segments; for datagrams of a length and first byte.
    fn sent(datagrams: &[(usize, u8)], most: usize) -> Vec<(usize, usize)> {
        let mut outbox = Outbox::default();
        let mut sent = Vec::new();
        for (length, first) in datagrams {
            let write = |out: &mut Vec<u8>| {
                out.resize(out.len() + length, *first);
                Some(*length)
            };
            outbox.add(most, write, |bytes, segment| sent.push((bytes.len(), segment)));
        }
        outbox.finish(|bytes, segment| sent.push((bytes.len(), segment)));
        outbox.finish(|_, _| panic!("sent twice"));
        sent
    }
}
