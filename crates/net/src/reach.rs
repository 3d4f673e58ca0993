use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// From where an address can be reached.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reach {
    /// From everywhere.
    Public,
    /// In one's own house.
    Private,
    /// On this machine.
    Loopback,
    /// Of no use as a destination, or the place where clouds tell machines their secrets.
    Never,
}

/// Where an address leads, in whatever form it is written.
pub fn reach_of(address: IpAddr) -> Reach {
    match address.to_canonical() {
        IpAddr::V4(address) => reach_of_v4(address),
        IpAddr::V6(address) => match embedded(address) {
            Some(address) => reach_of_v4(address),
            None => reach_of_v6(address),
        },
    }
}

/// Source: RFC 6890, 2.2.2
fn reach_of_v4(address: Ipv4Addr) -> Reach {
    let [a, b, ..] = address.octets();
    if address.is_loopback() {
        Reach::Loopback
    } else if address.is_link_local() || address.is_multicast() || a == 0 || a >= 240 {
        Reach::Never
    } else if address.is_private()
        || (a == 100 && b & 0xc0 == 64)
        || (a == 198 && b & 0xfe == 18)
        || (a == 192 && b == 0)
    {
        Reach::Private
    } else {
        Reach::Public
    }
}

/// Source: RFC 6890, 2.2.3; RFC 4193, 3.1
fn reach_of_v6(address: Ipv6Addr) -> Reach {
    let [first, ..] = address.segments();
    if address.is_loopback() {
        Reach::Loopback
    } else if address.is_unspecified() || address.is_multicast() || first & 0xffc0 == 0xfe80 {
        Reach::Never
    } else if first & 0xfe00 == 0xfc00 || first & 0xffc0 == 0xfec0 {
        Reach::Private
    } else {
        Reach::Public
    }
}

/// The IPv4 address that a translator makes of it: NAT64, 6to4, or the old compatible form.
///
/// Source: RFC 6052, 2.1; RFC 3056, 2; RFC 4291, 2.5.5.1
fn embedded(address: Ipv6Addr) -> Option<Ipv4Addr> {
    let of = |high: u16, low: u16| Ipv4Addr::from_bits(u32::from(high) << 16 | u32::from(low));
    match address.segments() {
        [0x64, 0xff9b, 0, 0, 0, 0, high, low] => Some(of(high, low)),
        [0x2002, high, low, ..] => Some(of(high, low)),
        [0, 0, 0, 0, 0, 0, high, low] if high > 0 => Some(of(high, low)),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::public("203.0.113.9", Reach::Public)]
    #[case::public_six("2001:db9::1", Reach::Public)]
    #[case::loopback("127.8.9.1", Reach::Loopback)]
    #[case::loopback_six("::1", Reach::Loopback)]
    #[case::mapped("::ffff:127.0.0.1", Reach::Loopback)]
    #[case::compatible("::127.0.0.1", Reach::Loopback)]
    #[case::translated("64:ff9b::7f00:1", Reach::Loopback)]
    #[case::six_to_four("2002:0a00:0001::1", Reach::Private)]
    #[case::house("192.168.1.1", Reach::Private)]
    #[case::house_of_many("172.31.255.1", Reach::Private)]
    #[case::not_that_house("172.32.0.1", Reach::Public)]
    #[case::carrier("100.64.0.1", Reach::Private)]
    #[case::unique_local("fd12::1", Reach::Private)]
    #[case::metadata("169.254.169.254", Reach::Never)]
    #[case::mapped_metadata("::ffff:169.254.169.254", Reach::Never)]
    #[case::link_local("fe80::1", Reach::Never)]
    #[case::unspecified("0.0.0.0", Reach::Never)]
    #[case::unspecified_six("::", Reach::Never)]
    #[case::multicast("224.0.0.1", Reach::Never)]
    fn addresses_in_every_form(#[case] address: &str, #[case] expected: Reach) {
        assert_eq!(reach_of(address.parse().unwrap()), expected);
    }
}
