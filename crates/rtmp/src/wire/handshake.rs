use bytes::Bytes;
use thiserror::Error;

/// The only version of RTMP in use.
const VERSION: u8 = 3;

/// Length of C1, C2, S1 and S2.
const BLOCK: usize = 1536;

/// Why a handshake failed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum HandshakeError {
    /// The first byte is no RTMP version that we speak.
    #[error("the first byte is {0:#04x}, RTMP begins with 0x03; is this another protocol?")]
    Version(u8),
}

/// What a step of a handshake came to.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct Progress {
    /// How many bytes of the input belong to the handshake.
    pub(crate) consumed: usize,
    /// True when chunks follow.
    pub(crate) done: bool,
}

/// Collects `needed` bytes across calls.
#[derive(Debug, Default)]
struct Gather {
    held: Vec<u8>,
}

impl Gather {
    /// Returns the bytes used, and the block once it is whole.
    fn take(&mut self, input: &[u8], needed: usize) -> (usize, Option<Vec<u8>>) {
        let count = input.len().min(needed - self.held.len());
        self.held.extend_from_slice(&input[..count]);
        let whole = self.held.len() == needed;
        (count, whole.then(|| std::mem::take(&mut self.held)))
    }
}

/// The server's side: waits for C0 and C1, answers S0, S1 and S2, waits for C2.
///
/// Source: RTMP 1.0, 5.2
#[derive(Debug)]
pub(crate) struct ServerHandshake {
    gather: Gather,
    random: Box<[u8; BLOCK]>,
    answered: bool,
}

impl ServerHandshake {
    pub(crate) fn new(seed: u64) -> Self {
        Self { gather: Gather::default(), random: Box::new(random_block(seed)), answered: false }
    }

    pub(crate) fn handle_input(&mut self, input: &[u8], out: &mut Vec<Bytes>) -> Result<Progress, HandshakeError> {
        let mut consumed = 0;
        if !self.answered {
            check_version(self.gather.held.first().or(input.first()))?;
            let (count, block) = self.gather.take(input, 1 + BLOCK);
            consumed += count;
            let Some(hello) = block else { return Ok(Progress { consumed, done: false }) };
            self.answered = true;
            // Some clients compare S2 with what they sent as C1, byte for byte, the time field
            // included; so it is an exact echo.
            out.push(Bytes::from([&[VERSION], &self.random[..], &hello[1..]].concat()));
        }
        let (count, echo) = self.gather.take(&input[consumed..], BLOCK);
        // C2 is not compared: clients that echo nothing are common and harmless.
        Ok(Progress { consumed: consumed + count, done: echo.is_some() })
    }
}

/// The client's side: sends C0 and C1 at once, waits for S0 to S2, answers C2.
#[derive(Debug)]
pub(crate) struct ClientHandshake {
    gather: Gather,
}

impl ClientHandshake {
    pub(crate) fn new(seed: u64, out: &mut Vec<Bytes>) -> Self {
        out.push(Bytes::from([&[VERSION], &random_block(seed)[..]].concat()));
        Self { gather: Gather::default() }
    }

    pub(crate) fn handle_input(&mut self, input: &[u8], out: &mut Vec<Bytes>) -> Result<Progress, HandshakeError> {
        check_version(self.gather.held.first().or(input.first()))?;
        let (consumed, block) = self.gather.take(input, 1 + 2 * BLOCK);
        if let Some(block) = &block {
            out.push(Bytes::copy_from_slice(&block[1..=BLOCK]));
        }
        Ok(Progress { consumed, done: block.is_some() })
    }
}

fn check_version(first: Option<&u8>) -> Result<(), HandshakeError> {
    match first {
        Some(&version) if version != VERSION => Err(HandshakeError::Version(version)),
        _ => Ok(()),
    }
}

/// Time 0, version 0, then bytes that differ between connections. The zero version tells the
/// peer that no digest is to be expected.
fn random_block(seed: u64) -> [u8; BLOCK] {
    let mut block = [0; BLOCK];
    let mut state = seed | 1;
    for byte in &mut block[8..] {
        // xorshift64: the bytes need to differ, not to be secret.
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        *byte = state.to_be_bytes()[0];
    }
    block
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn run(cut: usize) -> (ServerHandshake, bool, bool) {
        let (mut to_server, mut to_client) = (Vec::new(), Vec::new());
        let mut server = ServerHandshake::new(7);
        let mut client = ClientHandshake::new(8, &mut to_server);
        let (mut server_done, mut client_done) = (false, false);
        for _ in 0..3 {
            for piece in std::mem::take(&mut to_server).concat().chunks(cut) {
                server_done |= server.handle_input(piece, &mut to_client).unwrap().done;
            }
            for piece in std::mem::take(&mut to_client).concat().chunks(cut) {
                client_done |= client.handle_input(piece, &mut to_server).unwrap().done;
            }
        }
        (server, server_done, client_done)
    }

    #[test]
    fn the_server_echoes_c1_byte_for_byte() {
        let mut hello = vec![3];
        hello.extend((0..BLOCK).map(|n| n.to_be_bytes()[7]));
        let mut out = Vec::new();
        let progress = ServerHandshake::new(1).handle_input(&hello, &mut out).unwrap();
        assert_eq!(progress, Progress { consumed: 1 + BLOCK, done: false });
        let answer = out.concat();
        assert_eq!(answer.len(), 1 + 2 * BLOCK);
        assert_eq!(answer[1 + BLOCK..], hello[1..]);
        assert_eq!(answer[5..9], [0; 4], "a version field of 0 announces no digest");
    }

    #[test]
    fn another_protocol_is_named_at_the_first_byte() {
        let error = ServerHandshake::new(1).handle_input(b"GET / HTTP/1.1\r\n", &mut Vec::new()).unwrap_err();
        assert_eq!(error, HandshakeError::Version(b'G'));
    }

    #[test]
    fn bytes_behind_the_handshake_are_left() {
        let mut server = ServerHandshake::new(1);
        let mut input = vec![3];
        input.resize(1 + 2 * BLOCK + 5, 0);
        let progress = server.handle_input(&input, &mut Vec::new()).unwrap();
        assert_eq!(progress, Progress { consumed: 1 + 2 * BLOCK, done: true });
    }

    proptest! {
        #[test]
        fn any_cut_completes(cut in 1usize..4000) {
            let (_, server_done, client_done) = run(cut);
            prop_assert!(server_done && client_done);
        }
    }
}
