use std::fmt;
use std::str::FromStr;

use thiserror::Error;

/// The registered port of RTMP.
const DEFAULT_PORT: u16 = 1935;

/// RTMP over TLS has no port of its own; platforms use that of HTTPS.
const DEFAULT_SECURE_PORT: u16 = 443;

/// The address of an RTMP server: `rtmp://host[:port]/app`, or `rtmps://` for TLS.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RtmpAddress {
    secure: bool,
    host: String,
    port: u16,
    app: String,
}

/// Why a text is no RTMP address.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum AddressError {
    /// Another scheme, or none.
    #[error("`{found}` stands where `rtmp://` or `rtmps://` was expected, as in `rtmp://live.example.org/in`")]
    Scheme {
        /// What stands before the host.
        found: String,
    },
    /// No host.
    #[error("no host stands behind `rtmp://`, as in `rtmp://live.example.org/in`")]
    Host,
    /// The port is no port.
    #[error("`{found}` is no port; 1 to 65535 are")]
    Port {
        /// What stands behind the colon.
        found: String,
    },
    /// A user name before the host.
    #[error("a user name stands before the host; put it into the key, and leave only the host here")]
    UserName,
    /// A redirect from TLS to no TLS.
    #[error("the server sends us from TLS to an address without; the key stays here")]
    LeavesTls,
    /// A space or control character.
    #[error("an address holds no spaces or control characters")]
    Space,
}

impl RtmpAddress {
    /// The host: a name, an IPv4 address, or an IPv6 address without brackets.
    pub fn host(&self) -> &str {
        &self.host
    }

    /// True if the connection is to be made over TLS.
    pub fn is_secure(&self) -> bool {
        self.secure
    }

    /// The address that a server sends us to from this one: a whole address, or a path on the
    /// same server.
    ///
    /// # Errors
    /// [`AddressError`] if `text` is neither; also if it would leave TLS, since the key would then
    /// cross the net in the clear.
    pub fn resolve(&self, text: &str) -> Result<Self, AddressError> {
        let target: Self = if text.contains("://") {
            text.parse()?
        } else {
            Self { app: text.trim_matches('/').to_owned(), ..self.clone() }
        };
        if self.secure && !target.secure { Err(AddressError::LeavesTls) } else { Ok(target) }
    }

    /// The port.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// The application name: the path without its first slash.
    pub fn app(&self) -> &str {
        &self.app
    }
}

impl fmt::Display for RtmpAddress {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (open, close) = if self.host.contains(':') { ("[", "]") } else { ("", "") };
        write!(out, "{}://{open}{}{close}", if self.secure { "rtmps" } else { "rtmp" }, self.host)?;
        if self.port != default_port(self.secure) {
            write!(out, ":{}", self.port)?;
        }
        write!(out, "/{}", self.app)
    }
}

impl FromStr for RtmpAddress {
    type Err = AddressError;

    fn from_str(text: &str) -> Result<Self, AddressError> {
        let text = text.trim();
        if text.chars().any(|character| character.is_whitespace() || character.is_control()) {
            return Err(AddressError::Space);
        }
        let (scheme, rest) = text.split_once("://").unwrap_or((text, ""));
        let secure = match scheme.to_ascii_lowercase().as_str() {
            "rtmp" if text.contains("://") => false,
            "rtmps" if text.contains("://") => true,
            _ => return Err(AddressError::Scheme { found: scheme.to_owned() }),
        };
        let (authority, path) = rest.split_once('/').unwrap_or((rest, ""));
        if authority.contains('@') {
            return Err(AddressError::UserName);
        }
        let (host, port) = match authority.strip_prefix('[') {
            Some(bracketed) => {
                let (host, after) = bracketed.split_once(']').ok_or(AddressError::Host)?;
                (host, after.strip_prefix(':'))
            }
            None => authority.split_once(':').map_or((authority, None), |(host, port)| (host, Some(port))),
        };
        if host.is_empty() {
            return Err(AddressError::Host);
        }
        let port = match port {
            None => default_port(secure),
            Some(text) => match text.parse() {
                Ok(port) if port > 0 => port,
                _ => return Err(AddressError::Port { found: text.to_owned() }),
            },
        };
        Ok(Self { secure, host: host.to_owned(), port, app: path.trim_end_matches('/').to_owned() })
    }
}

fn default_port(secure: bool) -> u16 {
    if secure { DEFAULT_SECURE_PORT } else { DEFAULT_PORT }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::plain("rtmp://live.example.org/in", "live.example.org", 1935, "in")]
    #[case::port("rtmp://127.0.0.1:2000/in/", "127.0.0.1", 2000, "in")]
    #[case::deep_path("rtmp://a/in/stage?x=1", "a", 1935, "in/stage?x=1")]
    #[case::no_path("rtmp://a", "a", 1935, "")]
    #[case::six("rtmp://[::1]:2000/in", "::1", 2000, "in")]
    fn takes_apart(#[case] text: &str, #[case] host: &str, #[case] port: u16, #[case] app: &str) {
        let address: RtmpAddress = text.parse().unwrap();
        assert_eq!((address.host(), address.port(), address.app()), (host, port, app));
        assert_eq!(address.to_string().parse(), Ok(address));
    }

    #[test]
    fn tls_is_known_by_the_scheme() {
        let address: RtmpAddress = "RTMPS://live.example.org/in".parse().unwrap();
        assert!(address.is_secure());
        assert_eq!((address.port(), address.to_string().as_str()), (443, "rtmps://live.example.org/in"));
    }

    #[rstest]
    #[case::elsewhere("rtmps://b:7000/live", Ok("rtmps://b:7000/live"))]
    #[case::a_path("/other/", Ok("rtmps://a/other"))]
    #[case::without_tls("rtmp://b/live", Err(AddressError::LeavesTls))]
    #[case::nonsense("http://b/", Err(AddressError::Scheme { found: "http".into() }))]
    fn redirects_resolve(#[case] text: &str, #[case] expected: Result<&str, AddressError>) {
        let address: RtmpAddress = "rtmps://a/in".parse().unwrap();
        assert_eq!(address.resolve(text).map(|target| target.to_string()), expected.map(str::to_owned));
    }

    #[rstest]
    #[case::user("rtmp://me:secret@a/in", AddressError::UserName)]
    #[case::http("http://a/in", AddressError::Scheme { found: "http".into() })]
    #[case::nothing("", AddressError::Scheme { found: String::new() })]
    #[case::no_host("rtmp:///in", AddressError::Host)]
    #[case::bad_port("rtmp://a:70000/in", AddressError::Port { found: "70000".into() })]
    #[case::port_zero("rtmp://a:0/in", AddressError::Port { found: "0".into() })]
    #[case::space("rtmp://a/in put", AddressError::Space)]
    fn refuses(#[case] text: &str, #[case] expected: AddressError) {
        assert_eq!(text.parse::<RtmpAddress>(), Err(expected));
    }
}
