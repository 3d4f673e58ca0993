use std::fmt;
use std::str::FromStr;

use thiserror::Error;
use waverant_rtmp::{AddressError, RtmpAddress};
use waverant_srt::{SrtAddress, SrtAddressError};

/// Where a leg goes, and by which protocol.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum LegAddress {
    /// `rtmp://` or `rtmps://`.
    Rtmp(RtmpAddress),
    /// `srt://`.
    Srt(SrtAddress),
}

/// Why a text is no address of a destination.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum LegAddressError {
    /// Neither protocol.
    #[error(
        "`{found}` stands where `rtmp://`, `rtmps://` or `srt://` was expected, as in `rtmp://live.example.org/in` or \
         `srt://live.example.org:9000`"
    )]
    Scheme {
        /// What stands before the host.
        found: String,
    },
    /// It begins like one of RTMP.
    #[error(transparent)]
    Rtmp(AddressError),
    /// It begins like one of SRT.
    #[error(transparent)]
    Srt(SrtAddressError),
}

impl LegAddress {
    /// True if the address is one of SRT.
    pub fn is_srt(&self) -> bool {
        matches!(self, Self::Srt(_))
    }
}

impl fmt::Display for LegAddress {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Rtmp(address) => address.fmt(out),
            Self::Srt(address) => address.fmt(out),
        }
    }
}

impl FromStr for LegAddress {
    type Err = LegAddressError;

    fn from_str(text: &str) -> Result<Self, LegAddressError> {
        let scheme = text.trim().split_once("://").map(|(scheme, _)| scheme.to_ascii_lowercase());
        match scheme.as_deref() {
            Some("rtmp" | "rtmps") => text.parse().map(Self::Rtmp).map_err(LegAddressError::Rtmp),
            Some("srt") => text.parse().map(Self::Srt).map_err(LegAddressError::Srt),
            _ => Err(LegAddressError::Scheme { found: scheme.unwrap_or_else(|| text.trim().to_owned()) }),
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("rtmp://host/in", "rtmp://host/in")]
    #[case("RTMPS://host/in/", "rtmps://host/in")]
    #[case(" srt://host:9000 ", "srt://host:9000")]
    fn addresses_of_both_protocols_are_read(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(text.parse::<LegAddress>().unwrap().to_string(), expected);
    }

    #[rstest]
    #[case("http://host/in", "`http`")]
    #[case("host", "`host`")]
    #[case("rtmp://", "no host")]
    #[case("srt://host", "no port")]
    fn faults_say_what_was_expected(#[case] text: &str, #[case] expected: &str) {
        let told = text.parse::<LegAddress>().unwrap_err().to_string();
        assert!(told.contains(expected) && told.contains("live.example.org"), "{told}");
    }
}
