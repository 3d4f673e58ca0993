//! The handshake, plain as the specification has it, and with digests as many peers have it.
//!
//! Source: RTMP 1.0, 5.2

mod digest;

use bytes::Bytes;
use thiserror::Error;

use digest::Role;
pub(crate) use digest::Scheme;

/// The only version of RTMP in use.
const VERSION: u8 = 3;

/// Versions from here on are not allowed, so that text is not mistaken for RTMP.
const FIRST_TEXT: u8 = 32;

/// Length of C1, C2, S1 and S2.
const BLOCK: usize = 1536;

/// What stands in the version field of a first block with a digest. Peers look only whether it
/// is zero.
const DIGEST_VERSION: [u8; 4] = [10, 0, 0, 1];

type Block = [u8; BLOCK];

/// Why a handshake failed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum HandshakeError {
    /// The first byte is no RTMP version.
    #[error("the first byte is {0:#04x}, RTMP begins with 0x03; is this another protocol?")]
    Version(u8),
    /// The server answered with a digest that is not right.
    #[error("the server's answer to our digest is wrong")]
    Digest,
}

/// How our client greets.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Greeting {
    /// As the specification has it.
    #[default]
    Plain,
    /// With a digest in the first half, which some servers want. A server that has none is taken
    /// all the same.
    DigestFirst,
    /// With a digest in the second half.
    DigestSecond,
}

impl Greeting {
    /// What to try with a server that broke off this one.
    #[must_use]
    pub fn next(self) -> Self {
        match self {
            Self::Plain => Self::DigestFirst,
            Self::DigestFirst => Self::DigestSecond,
            Self::DigestSecond => Self::Plain,
        }
    }

    fn scheme(self) -> Option<Scheme> {
        match self {
            Self::Plain => None,
            Self::DigestFirst => Some(Scheme::DigestFirst),
            Self::DigestSecond => Some(Scheme::DigestSecond),
        }
    }
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
#[derive(Debug)]
pub(crate) struct ServerHandshake {
    gather: Gather,
    seed: u64,
    answered: bool,
}

impl ServerHandshake {
    pub(crate) fn new(seed: u64) -> Self {
        Self { gather: Gather::default(), seed, answered: false }
    }

    pub(crate) fn handle_input(&mut self, input: &[u8], out: &mut Vec<Bytes>) -> Result<Progress, HandshakeError> {
        let mut consumed = 0;
        if !self.answered {
            // A server that does not know the client's version answers with its own (5.2.2); the
            // client may go on with that.
            check_not_text(self.gather.held.first().or(input.first()))?;
            let (count, hello) = self.gather.take(input, 1 + BLOCK);
            consumed += count;
            let Some(hello) = hello else { return Ok(Progress { consumed, done: false }) };
            self.answered = true;
            out.push(answer(&block_of(&hello[1..]), self.seed));
        }
        let (count, echo) = self.gather.take(&input[consumed..], BLOCK);
        // C2 is not compared: clients that echo nothing are common and harmless.
        Ok(Progress { consumed: consumed + count, done: echo.is_some() })
    }
}

/// S0, S1 and S2 for a client's C1.
fn answer(hello: &Block, seed: u64) -> Bytes {
    let mut first = random_block(seed);
    let has_version = hello[4..8] != [0; 4];
    let found = if has_version { digest::find_first(Role::Client, hello) } else { None };
    let Some((scheme, client_digest)) = found else {
        // Some clients compare S2 with what they sent as C1, byte for byte, the time field
        // included; so it is an exact echo. The zero version in S1 says that no digest follows.
        return Bytes::from([&[VERSION], &first[..], hello].concat());
    };
    first[4..8].copy_from_slice(&DIGEST_VERSION);
    digest::sign_first(Role::Server, scheme, &mut first);
    let mut second = random_block(!seed);
    digest::sign_second(Role::Server, &client_digest, &mut second);
    Bytes::from([&[VERSION], &first[..], &second[..]].concat())
}

/// The client's side: sends C0 and C1 at once, waits for S0 to S2, answers C2.
#[derive(Debug)]
pub(crate) struct ClientHandshake {
    gather: Gather,
    seed: u64,
    /// The digest in our first block, if there is one.
    own_digest: Option<[u8; 32]>,
}

impl ClientHandshake {
    pub(crate) fn new(seed: u64, greeting: Greeting, out: &mut Vec<Bytes>) -> Self {
        let mut hello = random_block(seed);
        let mut own_digest = None;
        if let Some(scheme) = greeting.scheme() {
            hello[4..8].copy_from_slice(&DIGEST_VERSION);
            digest::sign_first(Role::Client, scheme, &mut hello);
            own_digest = digest::find_first(Role::Client, &hello).map(|(_, digest)| digest);
        }
        out.push(Bytes::from([&[VERSION], &hello[..]].concat()));
        Self { gather: Gather::default(), seed, own_digest }
    }

    pub(crate) fn handle_input(&mut self, input: &[u8], out: &mut Vec<Bytes>) -> Result<Progress, HandshakeError> {
        match self.gather.held.first().or(input.first()) {
            Some(&version) if version != VERSION => return Err(HandshakeError::Version(version)),
            _ => {}
        }
        let (consumed, answer) = self.gather.take(input, 1 + 2 * BLOCK);
        if let Some(answer) = &answer {
            let (first, second) = answer[1..].split_at(BLOCK);
            out.push(Bytes::copy_from_slice(&self.reply(&block_of(first), &block_of(second))?));
        }
        Ok(Progress { consumed, done: answer.is_some() })
    }

    /// C2 for a server's S1 and S2.
    fn reply(&self, first: &Block, second: &Block) -> Result<Block, HandshakeError> {
        let found = self.own_digest.and_then(|own| Some((own, digest::find_first(Role::Server, first)?.1)));
        let Some((own, server_digest)) = found else { return Ok(*first) };
        if !digest::is_signed(Role::Server, &own, second) {
            return Err(HandshakeError::Digest);
        }
        let mut reply = random_block(!self.seed);
        digest::sign_second(Role::Client, &server_digest, &mut reply);
        Ok(reply)
    }
}

fn check_not_text(first: Option<&u8>) -> Result<(), HandshakeError> {
    match first {
        Some(&version) if version >= FIRST_TEXT => Err(HandshakeError::Version(version)),
        _ => Ok(()),
    }
}

fn block_of(bytes: &[u8]) -> Block {
    let mut block = [0; BLOCK];
    for (place, byte) in block.iter_mut().zip(bytes) {
        *place = *byte;
    }
    block
}

/// Time 0, version 0, then bytes that differ between connections.
fn random_block(seed: u64) -> Block {
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
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    /// Runs both sides in pieces of `cut` bytes; returns whether both came to the end, and S1.
    fn run(greeting: Greeting, cut: usize) -> (bool, Vec<u8>) {
        let (mut to_server, mut to_client, mut answer) = (Vec::new(), Vec::new(), Vec::new());
        let mut server = ServerHandshake::new(7);
        let mut client = ClientHandshake::new(8, greeting, &mut to_server);
        let (mut server_done, mut client_done) = (false, false);
        for _ in 0..3 {
            for piece in std::mem::take(&mut to_server).concat().chunks(cut) {
                server_done |= server.handle_input(piece, &mut to_client).unwrap().done;
            }
            let down = std::mem::take(&mut to_client).concat();
            answer.extend(&down);
            for piece in down.chunks(cut) {
                client_done |= client.handle_input(piece, &mut to_server).unwrap().done;
            }
        }
        (server_done && client_done, answer)
    }

    fn hello(scheme: Scheme) -> Vec<u8> {
        let mut block = random_block(99);
        block[4..8].copy_from_slice(&[9, 0, 124, 2]);
        digest::sign_first(Role::Client, scheme, &mut block);
        [&[3], &block[..]].concat()
    }

    /// Some clients warn, or leave, unless S2 is their C1 byte for byte.
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

    #[rstest]
    #[case::digest_first(Scheme::DigestFirst)]
    #[case::digest_second(Scheme::DigestSecond)]
    fn a_digest_is_answered_in_its_own_scheme(#[case] scheme: Scheme) {
        let hello = hello(scheme);
        let (found, client_digest) = digest::find_first(Role::Client, &block_of(&hello[1..])).unwrap();
        assert_eq!(found, scheme);
        let mut out = Vec::new();
        ServerHandshake::new(1).handle_input(&hello, &mut out).unwrap();
        let answer = out.concat();
        let (first, second) = (block_of(&answer[1..=BLOCK]), block_of(&answer[1 + BLOCK..]));
        assert_eq!(digest::find_first(Role::Server, &first).map(|(scheme, _)| scheme), Some(scheme));
        assert!(digest::is_signed(Role::Server, &client_digest, &second));
    }

    /// A wrong digest would end the connection; so one that is not right gets the plain answer.
    #[test]
    fn a_wrong_digest_gets_the_plain_answer() {
        let mut hello = hello(Scheme::DigestFirst);
        hello[900] ^= 1;
        let mut out = Vec::new();
        ServerHandshake::new(1).handle_input(&hello, &mut out).unwrap();
        let answer = out.concat();
        assert_eq!(answer[5..9], [0; 4]);
        assert_eq!(answer[1 + BLOCK..], hello[1..]);
    }

    #[rstest]
    #[case::first(Greeting::DigestFirst)]
    #[case::second(Greeting::DigestSecond)]
    fn our_client_signs_for_a_server_with_digests_and_leaves_one_that_signs_wrongly(#[case] greeting: Greeting) {
        let (done, answer) = run(greeting, 4096);
        assert!(done);
        assert_eq!(answer[5..9], DIGEST_VERSION);
        let mut out = Vec::new();
        let mut client = ClientHandshake::new(8, greeting, &mut out);
        let mut forged = answer;
        forged[1 + 2 * BLOCK - 1] ^= 1;
        assert_eq!(client.handle_input(&forged, &mut out), Err(HandshakeError::Digest));
    }

    #[test]
    fn our_client_takes_a_plain_server_whatever_it_offered() {
        for greeting in [Greeting::Plain, Greeting::DigestFirst, Greeting::DigestSecond] {
            let mut out = Vec::new();
            let mut client = ClientHandshake::new(8, greeting, &mut out);
            let answer = [&[3], &[5; 2 * BLOCK][..]].concat();
            assert!(client.handle_input(&answer, &mut out).unwrap().done);
            assert_eq!(out[1], [5; BLOCK][..], "C2 echoes S1");
        }
    }

    #[rstest]
    #[case::old(2)]
    #[case::encrypted(6)]
    #[case::reserved(31)]
    fn other_versions_are_offered_version_3(#[case] version: u8) {
        let mut hello = vec![version];
        hello.resize(1 + BLOCK, 1);
        let mut out = Vec::new();
        ServerHandshake::new(1).handle_input(&hello, &mut out).unwrap();
        assert_eq!(out.concat()[0], 3);
    }

    #[test]
    fn another_protocol_is_named_at_the_first_byte() {
        let error = ServerHandshake::new(1).handle_input(b"GET / HTTP/1.1\r\n", &mut Vec::new()).unwrap_err();
        assert_eq!(error, HandshakeError::Version(b'G'));
        let mut client = ClientHandshake::new(1, Greeting::Plain, &mut Vec::new());
        assert_eq!(client.handle_input(b"HTTP/1.1 400", &mut Vec::new()), Err(HandshakeError::Version(b'H')));
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
        fn any_cut_completes(cut in 1usize..4000, with_digest: bool) {
            let greeting = if with_digest { Greeting::DigestSecond } else { Greeting::Plain };
            prop_assert!(run(greeting, cut).0);
        }

        #[test]
        fn any_bytes_are_answered_or_refused(bytes in proptest::collection::vec(any::<u8>(), 0..4000)) {
            let mut out = Vec::new();
            if let Ok(progress) = ServerHandshake::new(1).handle_input(&bytes, &mut out) {
                prop_assert!(progress.consumed <= bytes.len());
            }
            if let Ok(progress) = ClientHandshake::new(1, Greeting::DigestFirst, &mut out).handle_input(&bytes, &mut out) {
                prop_assert!(progress.consumed <= bytes.len());
            }
        }

        #[test]
        fn a_flipped_bit_is_answered_plainly(at in 9usize..1537, bit in 0u8..8) {
            let mut hello = hello(Scheme::DigestSecond);
            hello[at] ^= 1 << bit;
            let mut out = Vec::new();
            ServerHandshake::new(1).handle_input(&hello, &mut out).unwrap();
            prop_assert_eq!(&out.concat()[1 + BLOCK..], &hello[1..]);
        }
    }
}
