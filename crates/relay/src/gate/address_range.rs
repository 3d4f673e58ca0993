use std::fmt;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::str::FromStr;

use thiserror::Error;

/// The longest text that is repeated in an error.
const MAX_TEXT: usize = 48;

/// Addresses with the same first bits: one address, or a network as in `192.0.2.0/24`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct AddressRange {
    first: IpAddr,
    bits: u8,
}

/// The text is no range of addresses.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("`{found}` is no address and no network; `192.0.2.7`, `192.0.2.0/24` or `2001:db8::/32` were expected")]
pub struct AddressRangeError {
    found: String,
}

impl AddressRange {
    /// True if the range has this address. One of IPv4 that is written as one of IPv6 counts as what it
    /// is.
    pub fn contains(&self, address: IpAddr) -> bool {
        match (self.first, address.to_canonical()) {
            (IpAddr::V4(first), IpAddr::V4(address)) => first == masked_v4(address, self.bits),
            (IpAddr::V6(first), IpAddr::V6(address)) => first == masked_v6(address, self.bits),
            _ => false,
        }
    }

    /// True for what one house may have: at most an IPv4 network of 65,536, or an IPv6 one of 48
    /// bits.
    pub(crate) fn is_narrow(&self) -> bool {
        self.bits >= if self.first.is_ipv4() { 16 } else { 48 }
    }

    fn is_single(&self) -> bool {
        self.bits == if self.first.is_ipv4() { 32 } else { 128 }
    }
}

fn masked_v4(address: Ipv4Addr, bits: u8) -> Ipv4Addr {
    Ipv4Addr::from_bits(address.to_bits() & u32::MAX.checked_shl(32 - u32::from(bits)).unwrap_or(0))
}

fn masked_v6(address: Ipv6Addr, bits: u8) -> Ipv6Addr {
    Ipv6Addr::from_bits(address.to_bits() & u128::MAX.checked_shl(128 - u32::from(bits)).unwrap_or(0))
}

impl FromStr for AddressRange {
    type Err = AddressRangeError;

    fn from_str(text: &str) -> Result<Self, AddressRangeError> {
        let failure = || AddressRangeError { found: text.chars().take(MAX_TEXT).collect() };
        let (address, bits) = text.trim().split_once('/').map_or((text.trim(), None), |(a, b)| (a, Some(b)));
        let address: IpAddr = address.parse().map_err(|_| failure())?;
        let most = if address.is_ipv4() { 32 } else { 128 };
        let bits = bits.map_or(Ok(most), |bits| bits.parse().map_err(|_| failure()))?;
        if bits > most {
            return Err(failure());
        }
        let first = match address {
            IpAddr::V4(address) => masked_v4(address, bits).into(),
            IpAddr::V6(address) => masked_v6(address, bits).into(),
        };
        Ok(Self { first, bits })
    }
}

impl fmt::Display for AddressRange {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.is_single() { self.first.fmt(out) } else { write!(out, "{}/{}", self.first, self.bits) }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("192.0.2.7", "192.0.2.7", true)]
    #[case("192.0.2.7", "192.0.2.8", false)]
    #[case("192.0.2.0/24", "192.0.2.255", true)]
    #[case("192.0.2.99/24", "192.0.3.0", false)]
    #[case("192.0.2.0/24", "::ffff:192.0.2.9", true)]
    #[case("0.0.0.0/0", "203.0.113.1", true)]
    #[case("0.0.0.0/0", "2001:db8::1", false)]
    #[case("2001:db8::/32", "2001:db8:ffff::1", true)]
    #[case("2001:db8::1", "2001:db8::2", false)]
    #[case("::/0", "2001:db8::2", true)]
    fn a_range_has_the_addresses_with_its_first_bits(
        #[case] range: AddressRange,
        #[case] address: IpAddr,
        #[case] expected: bool,
    ) {
        assert_eq!(range.contains(address), expected);
    }

    #[rstest]
    #[case("boathouse")]
    #[case("192.0.2.0/33")]
    #[case("192.0.2/24")]
    #[case("2001:db8::/129")]
    #[case("192.0.2.0/")]
    #[case("")]
    fn what_is_no_range_is_told(#[case] text: &str) {
        let told = text.parse::<AddressRange>().unwrap_err().to_string();
        assert!(told.contains(text) && told.contains("192.0.2.0/24"));
    }

    proptest! {
        #[test]
        fn what_is_shown_is_read_again(bits in any::<u32>(), length in 0u8..=32) {
            let range: AddressRange = format!("{}/{length}", Ipv4Addr::from_bits(bits)).parse().unwrap();
            prop_assert_eq!(range.to_string().parse::<AddressRange>(), Ok(range));
            prop_assert!(range.contains(Ipv4Addr::from_bits(bits).into()));
        }
    }
}
