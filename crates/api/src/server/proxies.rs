use std::fmt;
use std::net::{IpAddr, SocketAddr};
use std::str::FromStr;
use std::sync::Arc;

use axum::http::HeaderMap;
use thiserror::Error;
use waverant_relay::AddressRange;

/// In which header proxies say who calls.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum ProxyHeader {
    /// `X-Forwarded-For` and `X-Forwarded-Proto`.
    #[default]
    XForwarded,
    /// `Forwarded` (RFC 7239).
    Forwarded,
}

/// What is no header of proxies.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("expected x-forwarded or forwarded, found `{0}`")]
pub struct NoProxyHeader(String);

impl FromStr for ProxyHeader {
    type Err = NoProxyHeader;

    fn from_str(text: &str) -> Result<Self, NoProxyHeader> {
        match text {
            "x-forwarded" => Ok(Self::XForwarded),
            "forwarded" => Ok(Self::Forwarded),
            _ => Err(NoProxyHeader(text.to_owned())),
        }
    }
}

impl fmt::Display for ProxyHeader {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::XForwarded => "x-forwarded",
            Self::Forwarded => "forwarded",
        })
    }
}

/// Proxies of the house: what they say of who calls is believed, and nobody else's word.
#[derive(Clone, Debug, Default)]
pub struct Proxies {
    ranges: Arc<[AddressRange]>,
    header: ProxyHeader,
}

impl Proxies {
    /// Those at these addresses, who say it in this header.
    pub fn new(addresses: Vec<AddressRange>, header: ProxyHeader) -> Self {
        Self { ranges: addresses.into(), header }
    }

    fn has(&self, address: IpAddr) -> bool {
        self.ranges.iter().any(|range| range.contains(address))
    }

    /// Who calls, and whether over TLS: as the proxy says, if `peer` is one. Each proxy adds at the end of the list
    /// from whom it was called, so what stands before the last stranger is that stranger's own word.
    pub(super) fn caller(&self, peer: SocketAddr, is_secure: bool, headers: &HeaderMap) -> (SocketAddr, bool) {
        if !self.has(peer.ip()) {
            return (peer, is_secure);
        }
        let (told, scheme) = match self.header {
            ProxyHeader::XForwarded => x_forwarded(headers),
            ProxyHeader::Forwarded => forwarded(headers),
        };
        let mut caller = peer.ip();
        for address in told.iter().rev().map_while(|address| address_in(address.trim())) {
            caller = address;
            if !self.has(address) {
                break;
            }
        }
        (SocketAddr::new(caller, 0), scheme.map_or(is_secure, |scheme| scheme.eq_ignore_ascii_case("https")))
    }
}

/// Whom each proxy was called by, and how the last one was.
type Told = (Vec<String>, Option<String>);

/// All lines of a header as one list, as RFC 9110, 5.3 has it.
fn lines(headers: &HeaderMap, name: &str) -> String {
    headers.get_all(name).iter().filter_map(|value| value.to_str().ok()).collect::<Vec<_>>().join(",")
}

fn x_forwarded(headers: &HeaderMap) -> Told {
    let told = lines(headers, "x-forwarded-for").split(',').map(str::to_owned).collect();
    let scheme = lines(headers, "x-forwarded-proto");
    (told, scheme.rsplit(',').next().map(|scheme| scheme.trim().to_owned()).filter(|scheme| !scheme.is_empty()))
}

/// No address holds a comma or a semicolon, and so quotes are no matter: one that a stranger left open must not swallow
/// what the proxy wrote behind it.
///
/// Source: RFC 7239, 4
fn forwarded(headers: &HeaderMap) -> Told {
    let list = lines(headers, "forwarded");
    let mut told = Vec::new();
    let mut scheme = None;
    for element in list.split(',') {
        let (mut by, mut over) = (String::new(), None);
        for pair in element.split(';') {
            let Some((name, value)) = pair.split_once('=') else { continue };
            match name.trim().to_ascii_lowercase().as_str() {
                "for" => by = unquoted(value),
                "proto" => over = Some(unquoted(value)),
                _ => {}
            }
        }
        told.push(by);
        scheme = over;
    }
    (told, scheme)
}

/// A value with or without quotes.
fn unquoted(value: &str) -> String {
    value.trim().trim_matches('"').to_owned()
}

/// An address, as proxies write it: with or without a port, and in brackets or not.
fn address_in(text: &str) -> Option<IpAddr> {
    let bare = text.strip_prefix('[').and_then(|text| text.strip_suffix(']'));
    bare.unwrap_or(text).parse().ok().or_else(|| text.parse::<SocketAddr>().ok().map(|address| address.ip()))
}

#[cfg(test)]
mod tests {
    use axum::http::{HeaderName, HeaderValue};
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::no_proxy("192.0.2.9:1", &[("x-forwarded-for", "198.51.100.7")], "192.0.2.9", false)]
    #[case::proxy("127.0.0.1:1", &[("x-forwarded-for", "198.51.100.7"), ("x-forwarded-proto", "https")], "198.51.100.7", true)]
    #[case::says_nothing("127.0.0.1:1", &[], "127.0.0.1", false)]
    #[case::own_word("127.0.0.1:1", &[("x-forwarded-for", "203.0.113.1, 198.51.100.7")], "198.51.100.7", false)]
    #[case::two_proxies("127.0.0.1:1", &[("x-forwarded-for", "203.0.113.1, 198.51.100.7, 10.0.0.3")], "198.51.100.7", false)]
    #[case::two_lines("127.0.0.1:1", &[("x-forwarded-for", "203.0.113.1"), ("x-forwarded-for", "198.51.100.7")], "198.51.100.7", false)]
    #[case::nonsense("127.0.0.1:1", &[("x-forwarded-for", "198.51.100.7, unknown")], "127.0.0.1", false)]
    #[case::port("127.0.0.1:1", &[("x-forwarded-for", "198.51.100.7:4711")], "198.51.100.7", false)]
    #[case::forwarded("127.0.0.1:1", &[("forwarded", "for=203.0.113.1;proto=http, for=198.51.100.7;proto=https;by=10.0.0.3")], "198.51.100.7", true)]
    #[case::forwarded_lines("127.0.0.1:1", &[("forwarded", "for=203.0.113.1"), ("forwarded", "For=\"198.51.100.7:80\"; Proto=HTTPS, for=10.0.0.3;proto=https")], "198.51.100.7", true)]
    #[case::forwarded_six("127.0.0.1:1", &[("forwarded", r#"for="[2001:db8::7]:4711""#)], "2001:db8::7", false)]
    #[case::forwarded_hidden("127.0.0.1:1", &[("forwarded", "for=198.51.100.7, for=_hidden")], "127.0.0.1", false)]
    #[case::forwarded_quotes("127.0.0.1:1", &[("forwarded", r#"for="10.0.0.9, for=\"1.2.3.4", for=198.51.100.7"#)], "198.51.100.7", false)]
    #[case::of_a_stranger("127.0.0.1:1", &[("forwarded", "for=198.51.100.7"), ("x-forwarded-for", "203.0.113.9")], "198.51.100.7", false)]
    #[case::six("127.0.0.1:1", &[("x-forwarded-for", "[2001:db8::7]:4711")], "2001:db8::7", false)]
    fn the_word_of_proxies_counts(
        #[case] peer: &str,
        #[case] given: &[(&'static str, &'static str)],
        #[case] caller: &str,
        #[case] is_secure: bool,
    ) {
        let ranges: Vec<AddressRange> = ["127.0.0.1", "10.0.0.0/24"].map(|range| range.parse().unwrap()).into();
        let is_new = given.iter().any(|(name, _)| *name == "forwarded");
        let header = if is_new { ProxyHeader::Forwarded } else { ProxyHeader::XForwarded };
        let proxies = Proxies::new(ranges, header);
        let headers: HeaderMap = given
            .iter()
            .map(|(name, value)| (HeaderName::from_static(name), HeaderValue::from_static(value)))
            .fold(HeaderMap::new(), |mut headers, (name, value)| {
                headers.append(name, value);
                headers
            });
        let (found, secure) = proxies.caller(peer.parse().unwrap(), false, &headers);
        assert_eq!((found.ip().to_string().as_str(), secure), (caller, is_secure));
    }
}

#[cfg(test)]
mod hostile {
    use axum::http::HeaderValue;
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// Whatever a stranger writes before it, what the proxy adds counts.
        #[test]
        fn the_last_word_is_the_proxys(before in "[ -~]{0,60}|(for=|\"|,|;|\\\\|10\\.0\\.0\\.9|a){0,12}") {
            let proxies = Proxies::new(vec!["127.0.0.1".parse().unwrap()], ProxyHeader::Forwarded);
            let mut headers = HeaderMap::new();
            headers.append("forwarded", HeaderValue::from_str(&before).unwrap());
            headers.append("forwarded", HeaderValue::from_static("for=198.51.100.7"));
            let (found, _) = proxies.caller("127.0.0.1:1".parse().unwrap(), false, &headers);
            prop_assert_eq!(found.ip().to_string(), "198.51.100.7");
        }
    }
}
