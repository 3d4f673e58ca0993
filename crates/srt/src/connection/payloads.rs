/// Buffers that are kept to be used again.
const MAX_FREE: usize = 256;

/// Buffers have room for this, so that each takes any payload; larger ones are not kept.
const ROOM: usize = 1500;

/// Memory for payloads that wait for their time. What was used last is used first: it may still be
/// in the processor's cache.
#[derive(Debug, Default)]
pub(super) struct Payloads {
    free: Vec<Vec<u8>>,
}

impl Payloads {
    /// A payload in memory of its own, which can be decrypted in its place. This copy costs less than
    /// lending out the buffers that the kernel fills: those must be large, and cleared.
    pub(super) fn keep(&mut self, payload: &[u8]) -> Vec<u8> {
        let mut buffer = self.free.pop().unwrap_or_else(|| Vec::with_capacity(ROOM));
        buffer.extend_from_slice(payload);
        buffer
    }

    /// Takes a buffer back whose content was handed on.
    pub(super) fn give_back(&mut self, mut buffer: Vec<u8>) {
        if self.free.len() < MAX_FREE && (ROOM..=2 * ROOM).contains(&buffer.capacity()) {
            buffer.clear();
            self.free.push(buffer);
        }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::VecDeque;

    use super::*;

    #[test]
    fn buffers_are_used_again() {
        let mut payloads = Payloads::default();
        let mut waiting = VecDeque::new();
        for number in 0..10_000_u32 {
            waiting.push_back((number, payloads.keep(&number.to_be_bytes().repeat(300))));
            if waiting.len() > 200 {
                let (number, payload) = waiting.pop_front().unwrap();
                assert_eq!(payload, number.to_be_bytes().repeat(300));
                payloads.give_back(payload);
            }
        }
        assert_eq!(payloads.free.len(), 1);
    }

    #[test]
    fn what_is_too_much_or_too_large_is_not_kept() {
        let mut payloads = Payloads::default();
        let waiting: Vec<Vec<u8>> = (0..1_000).map(|_| payloads.keep(&[7; 1316])).collect();
        waiting.into_iter().for_each(|payload| payloads.give_back(payload));
        payloads.give_back(Vec::with_capacity(100_000));
        payloads.give_back(Vec::new());
        assert_eq!(payloads.free.len(), MAX_FREE);
        assert!(payloads.free.iter().all(|buffer| buffer.is_empty() && buffer.capacity() < 2 * ROOM));
    }
}
