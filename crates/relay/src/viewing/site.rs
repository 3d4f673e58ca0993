use std::fmt;
use std::str::FromStr;

use thiserror::Error;

/// A web site, as browsers name where a page is from: scheme, host, and a port that is not the scheme's own.
///
/// Source: RFC 6454, 6.2
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Site(String);

/// What is no site.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[error("`{0}` is no site, as in https://www.wexcombe.example or http://192.0.2.7:8080")]
pub struct SiteError(String);

/// The longest name of a host.
const MAX_HOST: usize = 253;

impl Site {
    /// As browsers write it.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The site that the page at an address is of, as in a `Referer` header.
    pub fn of_address(address: &str) -> Option<Self> {
        let (scheme, rest) = address.split_once("://")?;
        let end = rest.find(['/', '?', '#']).unwrap_or(rest.len());
        format!("{scheme}://{}", &rest[..end]).parse().ok()
    }

    /// True if this is the site that a `Host` header names, whichever the scheme.
    pub fn is_host(&self, host: &str) -> bool {
        let host = host.to_ascii_lowercase();
        let own = self.0.split_once("://").map_or("", |(_, own)| own);
        let plain = |host: &str| host.strip_suffix(":80").or_else(|| host.strip_suffix(":443")).map(str::to_owned);
        own == host || plain(&host).is_some_and(|host| host == own)
    }
}

impl fmt::Display for Site {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(&self.0)
    }
}

impl FromStr for Site {
    type Err = SiteError;

    fn from_str(text: &str) -> Result<Self, SiteError> {
        let fault = || SiteError(text.chars().take(80).collect());
        let lower = text.trim().to_ascii_lowercase();
        let (scheme, place) = lower.split_once("://").ok_or_else(fault)?;
        let own_port = match scheme {
            "https" => "443",
            "http" => "80",
            _ => return Err(fault()),
        };
        let place = place.strip_suffix('/').unwrap_or(place);
        let (host, port) = match place.rsplit_once(':') {
            // Colons inside brackets are of an IPv6 address.
            Some((host, port)) if !port.ends_with(']') => (host, Some(port)),
            _ => (place, None),
        };
        let port = port.map(|port| port.parse::<u16>().map_err(|_| fault())).transpose()?;
        if !is_host(host) || port == Some(0) {
            return Err(fault());
        }
        match port.map(|port| port.to_string()).filter(|port| port != own_port) {
            Some(port) => Ok(Self(format!("{scheme}://{host}:{port}"))),
            None => Ok(Self(format!("{scheme}://{host}"))),
        }
    }
}

fn is_host(host: &str) -> bool {
    if let Some(inside) = host.strip_prefix('[').and_then(|host| host.strip_suffix(']')) {
        return inside.parse::<std::net::Ipv6Addr>().is_ok();
    }
    let is_label = |label: &str| {
        (1..=63).contains(&label.len()) && label.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-')
    };
    host.len() <= MAX_HOST && host.split('.').all(is_label)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::plain("https://www.wexcombe.example", Some("https://www.wexcombe.example"))]
    #[case::letters(" HTTPS://Www.Wexcombe.Example/ ", Some("https://www.wexcombe.example"))]
    #[case::own_port("https://club.example:443", Some("https://club.example"))]
    #[case::port("http://192.0.2.7:8080", Some("http://192.0.2.7:8080"))]
    #[case::six("http://[2001:db8::7]:8080", Some("http://[2001:db8::7]:8080"))]
    #[case::six_alone("http://[2001:db8::7]", Some("http://[2001:db8::7]"))]
    #[case::path("https://club.example/live", None)]
    #[case::any("*", None)]
    #[case::list("https://a.example https://b.example", None)]
    #[case::directive("https://a.example; script-src *", None)]
    #[case::no_scheme("club.example", None)]
    #[case::scheme("javascript://club.example", None)]
    #[case::user("https://a@club.example", None)]
    #[case::port_zero("https://club.example:0", None)]
    #[case::empty("https://", None)]
    fn sites_are_read_as_browsers_write_them(#[case] text: &str, #[case] expected: Option<&str>) {
        assert_eq!(text.parse::<Site>().ok().as_ref().map(Site::as_str), expected);
    }

    #[rstest]
    #[case::page("https://club.example/live?x#y", Some("https://club.example"))]
    #[case::bare("http://club.example:8080", Some("http://club.example:8080"))]
    #[case::relative("/live", None)]
    fn pages_are_of_sites(#[case] address: &str, #[case] expected: Option<&str>) {
        assert_eq!(Site::of_address(address).as_ref().map(Site::as_str), expected);
    }

    #[rstest]
    #[case::same("http://relay.example:7850", "relay.example:7850", true)]
    #[case::letters("http://relay.example:7850", "Relay.Example:7850", true)]
    #[case::own_port("https://relay.example", "relay.example:443", true)]
    #[case::other_port("http://relay.example:7800", "relay.example:7850", false)]
    #[case::other("http://relay.example.evil.example:7850", "relay.example:7850", false)]
    fn our_own_site_is_the_one_that_was_called(#[case] site: &str, #[case] host: &str, #[case] expected: bool) {
        assert_eq!(site.parse::<Site>().unwrap().is_host(host), expected);
    }

    proptest! {
        /// What is read goes into a header as it is.
        #[test]
        fn what_is_read_is_safe_and_read_again(text in "\\PC{0,60}") {
            if let Ok(site) = text.parse::<Site>() {
                prop_assert!(site.as_str().bytes().all(|byte| byte.is_ascii_graphic() && !b";,'\"<>*".contains(&byte)));
                prop_assert_eq!(site.as_str().parse::<Site>(), Ok(site.clone()));
            }
        }
    }
}
