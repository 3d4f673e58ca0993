use std::net::{IpAddr, Ipv6Addr};

/// What callers are told apart by: an IPv4 address, or the first half of an IPv6 address, since
/// one machine may use all of the other half.
pub fn caller_of(address: IpAddr) -> IpAddr {
    match address.to_canonical() {
        IpAddr::V6(address) => {
            let [a, b, c, d, ..] = address.segments();
            Ipv6Addr::new(a, b, c, d, 0, 0, 0, 0).into()
        }
        address => address,
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::four("192.0.2.1", "192.0.2.1")]
    #[case::four_in_six("::ffff:192.0.2.1", "192.0.2.1")]
    #[case::six("2001:db8:1:2:3:4:5:6", "2001:db8:1:2::")]
    fn callers_are_told_apart(#[case] address: &str, #[case] expected: &str) {
        assert_eq!(caller_of(address.parse().unwrap()), expected.parse::<IpAddr>().unwrap());
    }
}
