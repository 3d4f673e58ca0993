use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::sync::Arc;

use reqwest::dns::{Addrs, Name, Resolve, Resolving};
use waverant_net::{Reach, reach_of};
use waverant_relay::AddressRange;

use crate::address::THIS_MACHINE;

/// Which addresses calls may lead to: all that are public, and those of one's own house that its settings name.
#[derive(Clone, Debug, Default)]
pub struct Reachable(Arc<[AddressRange]>);

impl Reachable {
    /// All public addresses, and these of one's own house.
    pub fn new(private: impl IntoIterator<Item = AddressRange>) -> Self {
        Self(private.into_iter().collect())
    }

    /// True if a call may lead there.
    pub fn has(&self, address: IpAddr) -> bool {
        match reach_of(address) {
            Reach::Public => true,
            Reach::Private | Reach::Loopback => self.0.iter().any(|range| range.contains(address.to_canonical())),
            // The place where clouds tell machines their secrets among them.
            Reach::Never => false,
        }
    }

    /// What is told of an address that no call may lead to.
    pub(crate) fn refusal(host: &str, address: IpAddr) -> String {
        format!(
            "{host} is {address}, an address that calls may not lead to; `private_addresses` under [calls] in the \
             settings file allows those of one's own house"
        )
    }
}

/// Looks names up, and leaves nothing but addresses that calls may lead to: what is looked at is what is called.
impl Resolve for Reachable {
    fn resolve(&self, name: Name) -> Resolving {
        let (reachable, host) = (self.clone(), name.as_str().to_ascii_lowercase());
        Box::pin(async move {
            let found: Vec<SocketAddr> = if host == THIS_MACHINE {
                let here: [IpAddr; 2] = [Ipv4Addr::LOCALHOST.into(), Ipv6Addr::LOCALHOST.into()];
                here.map(|address| SocketAddr::new(address, 0)).into()
            } else {
                tokio::net::lookup_host((host.as_str(), 0)).await?.collect()
            };
            let allowed: Vec<SocketAddr> =
                found.iter().copied().filter(|address| reachable.has(address.ip())).collect();
            match found.first() {
                Some(first) if allowed.is_empty() => Err(io::Error::other(Self::refusal(&host, first.ip())).into()),
                _ => Ok(Box::new(allowed.into_iter()) as Addrs),
            }
        })
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::public("203.0.113.9", true)]
    #[case::named("192.168.7.20", true)]
    #[case::named_and_mapped("::ffff:192.168.7.20", true)]
    #[case::not_named("192.168.8.20", false)]
    #[case::loopback("127.0.0.1", false)]
    #[case::mapped_loopback("::ffff:127.0.0.1", false)]
    #[case::metadata("169.254.169.254", false)]
    #[case::unspecified("0.0.0.0", false)]
    fn only_what_is_public_or_named(#[case] address: &str, #[case] expected: bool) {
        let named = ["192.168.7.0/24", "169.254.0.0/16"].map(|range| range.parse().unwrap());
        assert_eq!(Reachable::new(named).has(address.parse().unwrap()), expected);
    }
}
