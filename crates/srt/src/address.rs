use std::fmt;
use std::str::FromStr;

use thiserror::Error;

const SCHEME: &str = "srt://";

/// The address of an SRT listener: `srt://host:port`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SrtAddress {
    host: String,
    port: u16,
}

/// Why a text is no SRT address.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum SrtAddressError {
    /// Another scheme, or none.
    #[error("`{found}` stands where `srt://` was expected, as in `srt://live.example.org:9000`")]
    Scheme {
        /// What stands before the host.
        found: String,
    },
    /// No host.
    #[error("no host stands behind `srt://`, as in `srt://live.example.org:9000`")]
    Host,
    /// No port, or none that is one. SRT has no registered port.
    #[error("`{found}` is no port; 1 to 65535 are, as in `srt://live.example.org:9000`")]
    Port {
        /// What stands behind the colon.
        found: String,
    },
    /// Something behind the port.
    #[error(
        "only host and port stand in the address; the stream id is the key, latency and passphrase have fields of their own"
    )]
    More,
    /// A space or control character.
    #[error("an address holds no spaces or control characters")]
    Space,
}

impl SrtAddress {
    /// The host: a name, an IPv4 address, or an IPv6 address without brackets.
    pub fn host(&self) -> &str {
        &self.host
    }

    /// The port.
    pub fn port(&self) -> u16 {
        self.port
    }
}

impl fmt::Display for SrtAddress {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (open, close) = if self.host.contains(':') { ("[", "]") } else { ("", "") };
        write!(out, "{SCHEME}{open}{}{close}:{}", self.host, self.port)
    }
}

impl FromStr for SrtAddress {
    type Err = SrtAddressError;

    fn from_str(text: &str) -> Result<Self, SrtAddressError> {
        let text = text.trim();
        if text.chars().any(|character| character.is_whitespace() || character.is_control()) {
            return Err(SrtAddressError::Space);
        }
        let (scheme, rest) = text.split_once("://").unwrap_or((text, ""));
        if !scheme.eq_ignore_ascii_case("srt") || !text.contains("://") {
            return Err(SrtAddressError::Scheme { found: scheme.to_owned() });
        }
        let authority = rest.strip_suffix('/').unwrap_or(rest);
        if authority.contains(['/', '?', '#', '@']) {
            return Err(SrtAddressError::More);
        }
        let (host, port) = match authority.strip_prefix('[') {
            Some(bracketed) => {
                let (host, after) = bracketed.split_once(']').ok_or(SrtAddressError::Host)?;
                (host, after.strip_prefix(':').unwrap_or(after))
            }
            None => authority.split_once(':').unwrap_or((authority, "")),
        };
        if host.is_empty() {
            return Err(SrtAddressError::Host);
        }
        match port.parse() {
            Ok(port @ 1..) => Ok(Self { host: host.to_owned(), port }),
            _ => Err(SrtAddressError::Port { found: port.to_owned() }),
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("srt://live.example.org:9000", "live.example.org", 9000)]
    #[case(" SRT://127.0.0.1:7810/ ", "127.0.0.1", 7810)]
    #[case("srt://[::1]:7810", "::1", 7810)]
    fn host_and_port_are_read(#[case] text: &str, #[case] host: &str, #[case] port: u16) {
        let address: SrtAddress = text.parse().unwrap();
        assert_eq!((address.host(), address.port()), (host, port));
    }

    #[rstest]
    #[case("rtmp://host/in", SrtAddressError::Scheme { found: "rtmp".to_owned() })]
    #[case("host:9000", SrtAddressError::Scheme { found: "host:9000".to_owned() })]
    #[case("srt://:9000", SrtAddressError::Host)]
    #[case("srt://[::1", SrtAddressError::Host)]
    #[case("srt://host", SrtAddressError::Port { found: String::new() })]
    #[case("srt://host:0", SrtAddressError::Port { found: "0".to_owned() })]
    #[case("srt://host:70000", SrtAddressError::Port { found: "70000".to_owned() })]
    #[case("srt://host:9000?latency=200", SrtAddressError::More)]
    #[case("srt://me@host:9000", SrtAddressError::More)]
    #[case("srt://host :9000", SrtAddressError::Space)]
    fn what_is_no_address_is_told(#[case] text: &str, #[case] expected: SrtAddressError) {
        assert_eq!(text.parse::<SrtAddress>(), Err(expected));
    }

    proptest! {
        #[test]
        fn any_text_is_an_address_or_an_error(text in "(srt://)?[a-z0-9.:\\[\\]/?@ ]{0,40}") {
            if let Ok(address) = text.parse::<SrtAddress>() {
                prop_assert_eq!(address.to_string().parse::<SrtAddress>(), Ok(address));
            }
        }
    }
}
