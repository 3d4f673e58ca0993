use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};

use thiserror::Error;

/// How version 2 begins.
const SIGNATURE: &[u8; 12] = b"\r\n\r\n\0\r\nQUIT\n";

/// The longest line of version 1, with its end.
const LINE_BYTES: usize = 107;

/// Bytes of version 2 before addresses, and what may follow them at most: no proxy has more to say.
const HEAD_BYTES: usize = 16;
const REST_BYTES: usize = 2048;

/// The type of what is said of TLS, and the bit in it for "the caller came over TLS".
const TLS_TYPE: u8 = 0x20;
const TLS_CALLER: u8 = 0x01;

/// What a proxy says, before all else, of who calls through it.
///
/// Source: The PROXY protocol, versions 1 and 2 (2020)
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Announced {
    /// It is not all there: at least so many bytes are needed in all, none of them beyond its end.
    Needs(usize),
    /// It is all there.
    Said {
        /// Who calls; none if it is the proxy itself, or is not known.
        caller: Option<SocketAddr>,
        /// True if the caller came to the proxy over TLS.
        is_secure: bool,
    },
}

/// What is no announcement.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum AnnouncedError {
    /// It begins otherwise.
    #[error("the PROXY protocol was expected, and something else came")]
    Other,
    /// A line of version 1 is not as it must be.
    #[error("a line of the PROXY protocol names no caller in the form that it must have")]
    Line,
    /// Version 2 in a form that is not known.
    #[error("the PROXY protocol came in a version or with a command that is not known")]
    Version,
    /// It is shorter than its addresses, or longer than any proxy needs.
    #[error("an announcement of the PROXY protocol has {0} bytes, which is too few or too many")]
    Length(usize),
}

/// Reads an announcement from the bytes of a connection so far.
///
/// # Errors
/// [`AnnouncedError`]; the connection is to be closed then.
pub fn announced(bytes: &[u8]) -> Result<Announced, AnnouncedError> {
    let begins = |expected: &[u8]| {
        let length = bytes.len().min(expected.len());
        bytes[..length] == expected[..length]
    };
    if begins(SIGNATURE) && !bytes.is_empty() {
        return if bytes.len() < HEAD_BYTES { Ok(Announced::Needs(HEAD_BYTES)) } else { second(bytes) };
    }
    if !begins(b"PROXY ") {
        return Err(AnnouncedError::Other);
    }
    match bytes.windows(2).position(|pair| pair == b"\r\n") {
        Some(end) => first(&bytes[..end]),
        None if bytes.len() >= LINE_BYTES => Err(AnnouncedError::Line),
        // The shortest is `PROXY UNKNOWN`; beyond that a byte is read at a time.
        None => Ok(Announced::Needs((bytes.len() + 1).max(15))),
    }
}

/// Version 1: a line of text.
fn first(line: &[u8]) -> Result<Announced, AnnouncedError> {
    let text = std::str::from_utf8(line).map_err(|_| AnnouncedError::Line)?;
    let words: Vec<&str> = text.split(' ').collect();
    let said = |caller| Announced::Said { caller, is_secure: false };
    match words[..] {
        ["PROXY", "UNKNOWN", ..] => Ok(said(None)),
        ["PROXY", family, from, to, from_port, to_port] => {
            let addresses = (from.parse::<IpAddr>(), to.parse::<IpAddr>());
            let (Ok(from), Ok(to)) = addresses else { return Err(AnnouncedError::Line) };
            let fits = match family {
                "TCP4" => from.is_ipv4() && to.is_ipv4(),
                "TCP6" => from.is_ipv6() && to.is_ipv6(),
                _ => false,
            };
            let (Some(port), Some(_), true) = (port_of(from_port), port_of(to_port), fits) else {
                return Err(AnnouncedError::Line);
            };
            Ok(said(Some(SocketAddr::new(from, port))))
        }
        _ => Err(AnnouncedError::Line),
    }
}

/// A port without signs and leading zeros.
fn port_of(text: &str) -> Option<u16> {
    let is_plain = text.bytes().all(|byte| byte.is_ascii_digit()) && (text == "0" || !text.starts_with('0'));
    text.parse().ok().filter(|_| is_plain)
}

/// Version 2: a head of 16 bytes, addresses, and what else is told.
fn second(bytes: &[u8]) -> Result<Announced, AnnouncedError> {
    let &[command, family, high, low] = &bytes[SIGNATURE.len()..HEAD_BYTES] else {
        return Err(AnnouncedError::Version);
    };
    let length = usize::from(u16::from_be_bytes([high, low]));
    if length > REST_BYTES {
        return Err(AnnouncedError::Length(length));
    }
    let Some(rest) = bytes.get(HEAD_BYTES..HEAD_BYTES + length) else {
        return Ok(Announced::Needs(HEAD_BYTES + length));
    };
    match command {
        // The proxy looks whether we are there.
        0x20 => return Ok(Announced::Said { caller: None, is_secure: false }),
        0x21 => {}
        _ => return Err(AnnouncedError::Version),
    }
    let short = AnnouncedError::Length(length);
    let (caller, more) = match family {
        0x11 => {
            let (addresses, more) = rest.split_first_chunk::<12>().ok_or(short)?;
            let &[a, b, c, d, _, _, _, _, high, low, _, _] = addresses;
            (Some((Ipv4Addr::new(a, b, c, d).into(), [high, low])), more)
        }
        0x21 => {
            let (from, more) = rest.split_first_chunk::<16>().ok_or(short)?;
            let (ports, more) = more.get(16..).and_then(|more| more.split_first_chunk::<4>()).ok_or(short)?;
            (Some((Ipv6Addr::from(*from).into(), [ports[0], ports[1]])), more)
        }
        // Sockets of the proxy's own machine, datagrams, and what is not told.
        _ => (None, &[][..]),
    };
    let caller = caller.map(|(address, port)| SocketAddr::new(address, u16::from_be_bytes(port)));
    Ok(Announced::Said { caller, is_secure: came_over_tls(more) })
}

/// Looks through type, length and value, one after the other.
fn came_over_tls(mut more: &[u8]) -> bool {
    while let [kind, high, low, rest @ ..] = more {
        let length = usize::from(u16::from_be_bytes([*high, *low]));
        let Some((value, after)) = rest.split_at_checked(length) else { return false };
        if *kind == TLS_TYPE {
            return value.first().is_some_and(|flags| flags & TLS_CALLER != 0);
        }
        more = after;
    }
    false
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    fn v2(command: u8, family: u8, rest: &[u8]) -> Vec<u8> {
        let length = u16::try_from(rest.len()).unwrap().to_be_bytes();
        [&SIGNATURE[..], &[command, family], &length, rest].concat()
    }

    fn said(caller: &str, is_secure: bool) -> Announced {
        Announced::Said { caller: caller.parse().ok(), is_secure }
    }

    #[rstest]
    #[case("PROXY TCP4 198.51.100.7 192.0.2.1 56324 1935\r\n", "198.51.100.7:56324")]
    #[case("PROXY TCP6 2001:db8::7 2001:db8::1 1 65535\r\n", "[2001:db8::7]:1")]
    #[case("PROXY UNKNOWN\r\n", "")]
    #[case("PROXY UNKNOWN ffff:f...f:ffff ffff:f...f:ffff 65535 65535\r\n", "")]
    fn lines_are_read(#[case] line: &str, #[case] caller: &str) {
        assert_eq!(announced(line.as_bytes()), Ok(said(caller, false)));
        let behind = format!("{line}\x03and so on");
        assert_eq!(announced(behind.as_bytes()), Ok(said(caller, false)));
    }

    #[rstest]
    #[case("PROXY TCP4 2001:db8::7 192.0.2.1 1 2\r\n")]
    #[case("PROXY TCP4 198.51.100.7 192.0.2.1 056 2\r\n")]
    #[case("PROXY TCP4 198.51.100.7 192.0.2.1 +56 2\r\n")]
    #[case("PROXY TCP4 198.51.100.7 192.0.2.1 65536 2\r\n")]
    #[case("PROXY TCP4  198.51.100.7 192.0.2.1 1 2\r\n")]
    #[case("PROXY TCP4 198.51.100.7 192.0.2.1 1\r\n")]
    #[case("PROXY UDP4 198.51.100.7 192.0.2.1 1 2\r\n")]
    #[case(
        "PROXY UNKNOWN................................................................................................"
    )]
    fn other_lines_are_refused(#[case] line: &str) {
        assert_eq!(announced(line.as_bytes()), Err(AnnouncedError::Line));
    }

    #[test]
    fn the_second_version_is_read() {
        let four = [198, 51, 100, 7, 192, 0, 2, 1, 0xdc, 0x04, 7, 143];
        assert_eq!(announced(&v2(0x21, 0x11, &four)), Ok(said("198.51.100.7:56324", false)));
        let tls = [&four[..], &[1, 0, 2, b'h', b'2', TLS_TYPE, 0, 5, 0b101, 0, 0, 0, 0]].concat();
        assert_eq!(announced(&v2(0x21, 0x11, &tls)), Ok(said("198.51.100.7:56324", true)));
        let clear = [&four[..], &[TLS_TYPE, 0, 5, 0, 0, 0, 0, 0]].concat();
        assert_eq!(announced(&v2(0x21, 0x11, &clear)), Ok(said("198.51.100.7:56324", false)));
        let mut six = [0_u8; 36];
        six[..4].copy_from_slice(&[0x20, 0x01, 0x0d, 0xb8]);
        six[15] = 7;
        six[33] = 80;
        assert_eq!(announced(&v2(0x21, 0x21, &six)), Ok(said("[2001:db8::7]:80", false)));
        for (command, family) in [(0x20, 0x11), (0x21, 0x00), (0x21, 0x31), (0x21, 0x12)] {
            assert_eq!(announced(&v2(command, family, &four)), Ok(said("", false)), "{command:x} {family:x}");
        }
        assert_eq!(announced(&v2(0x21, 0x21, &four)), Err(AnnouncedError::Length(12)));
        assert_eq!(announced(&v2(0x11, 0x11, &four)), Err(AnnouncedError::Version));
        let long = [&v2(0x21, 0x11, &four)[..14], &[0xff, 0xff]].concat();
        assert_eq!(announced(&long), Err(AnnouncedError::Length(65_535)));
    }

    #[rstest]
    #[case(b"")]
    #[case(b"\x03")]
    #[case(b"GET / HTTP/1.1\r\n")]
    #[case(b"\r\n\r\nx")]
    fn who_says_nothing_of_the_kind_is_refused(#[case] bytes: &[u8]) {
        let expected = if bytes.is_empty() { Ok(Announced::Needs(15)) } else { Err(AnnouncedError::Other) };
        assert_eq!(announced(bytes), expected);
    }

    /// Reads as a door does: never a byte that is not the announcement's.
    fn read(stream: &[u8]) -> (Result<Announced, AnnouncedError>, usize) {
        let mut have = 0;
        loop {
            match announced(&stream[..have]) {
                Ok(Announced::Needs(all)) if all <= stream.len() => {
                    assert!(all > have);
                    have = all;
                }
                other => return (other, have),
            }
        }
    }

    proptest! {
        #[test]
        fn nothing_behind_it_is_read(port in any::<u16>(), rest in proptest::collection::vec(any::<u8>(), 0..64), is_second in any::<bool>()) {
            let head = if is_second {
                let port = port.to_be_bytes();
                v2(0x21, 0x11, &[198, 51, 100, 7, 192, 0, 2, 1, port[0], port[1], 0, 80])
            } else {
                format!("PROXY TCP4 198.51.100.7 192.0.2.1 {port} 80\r\n").into_bytes()
            };
            let (found, have) = read(&[&head[..], &rest].concat());
            prop_assert_eq!(found, Ok(said(&format!("198.51.100.7:{port}"), false)));
            prop_assert_eq!(have, head.len());
        }

        #[test]
        fn whatever_comes_is_bounded(bytes in proptest::collection::vec(any::<u8>(), 0..300), begin in 0_usize..3) {
            let begin: &[u8] = [&b""[..], b"PROXY ", SIGNATURE][begin];
            let (_, have) = read(&[begin, &bytes].concat());
            prop_assert!(have <= HEAD_BYTES + REST_BYTES);
        }
    }
}
