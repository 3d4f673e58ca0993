use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use axum::http::HeaderMap;
use waverant_relay::AddressRange;

/// Proxies of the house: what they say of who calls is believed, and nobody else's word.
#[derive(Clone, Debug, Default)]
pub struct Proxies(Arc<[AddressRange]>);

impl Proxies {
    /// Those at these addresses.
    pub fn new(addresses: Vec<AddressRange>) -> Self {
        Self(addresses.into())
    }

    fn has(&self, address: IpAddr) -> bool {
        self.0.iter().any(|range| range.contains(address))
    }

    /// Who calls, and whether over TLS: as the proxy says, if `peer` is one. Each proxy adds at the end of the list
    /// from whom it was called, so what stands before the last stranger is that stranger's own word.
    pub(super) fn caller(&self, peer: SocketAddr, is_secure: bool, headers: &HeaderMap) -> (SocketAddr, bool) {
        if !self.has(peer.ip()) {
            return (peer, is_secure);
        }
        let text =
            |name: &str| headers.get_all(name).iter().filter_map(|value| value.to_str().ok()).collect::<Vec<_>>();
        let told = text("x-forwarded-for").join(",");
        let mut caller = peer.ip();
        for address in told.rsplit(',').map_while(|address| address_in(address.trim())) {
            caller = address;
            if !self.has(address) {
                break;
            }
        }
        let is_secure = text("x-forwarded-proto").last().map_or(is_secure, |scheme| scheme.trim() == "https");
        (SocketAddr::new(caller, 0), is_secure)
    }
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
    #[case::six("127.0.0.1:1", &[("x-forwarded-for", "[2001:db8::7]:4711")], "2001:db8::7", false)]
    fn the_word_of_proxies_counts(
        #[case] peer: &str,
        #[case] given: &[(&'static str, &'static str)],
        #[case] caller: &str,
        #[case] is_secure: bool,
    ) {
        let proxies = Proxies::new(["127.0.0.1", "10.0.0.0/24"].map(|range| range.parse().unwrap()).into());
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
