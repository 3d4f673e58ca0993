use sha2::{Digest, Sha256};
use time::OffsetDateTime;
use x509_parser::certificate::X509Certificate;
use x509_parser::extensions::GeneralName;

/// What a certificate says of itself.
///
/// Source: RFC 5280, 4.1
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CertificateFacts {
    /// The names and addresses that it is for; the common name if it has none.
    pub names: Vec<String>,
    /// The authority that signed it, as in `CN=…, O=…`.
    pub issuer: String,
    /// From when on it is good.
    pub since: OffsetDateTime,
    /// When it ends.
    pub ends: OffsetDateTime,
    /// Its serial number, in hexadecimal digits.
    pub serial: String,
    /// SHA-256 of it, in hexadecimal digits.
    pub fingerprint: String,
    /// True for one that stands in for another that is still to come: no authority knows it.
    pub is_placeholder: bool,
}

impl CertificateFacts {
    /// Reads the facts of a certificate (DER); none if it cannot be read.
    pub fn of(certificate: &[u8]) -> Option<Self> {
        let (_, parsed) = x509_parser::parse_x509_certificate(certificate).ok()?;
        let validity = parsed.validity();
        let at = |seconds| OffsetDateTime::from_unix_timestamp(seconds).ok();
        Some(Self {
            names: names_of(&parsed),
            issuer: parsed.issuer().to_string(),
            since: at(validity.not_before.timestamp())?,
            ends: at(validity.not_after.timestamp())?,
            serial: hexadecimal(parsed.raw_serial()),
            fingerprint: hexadecimal(&Sha256::digest(certificate)),
            is_placeholder: false,
        })
    }
}

fn names_of(certificate: &X509Certificate<'_>) -> Vec<String> {
    let alternatives = certificate.subject_alternative_name().ok().flatten();
    let names = alternatives.iter().flat_map(|names| &names.value.general_names);
    let told: Vec<String> = names.filter_map(name_of).collect();
    if !told.is_empty() {
        return told;
    }
    certificate.subject().iter_common_name().filter_map(|name| name.as_str().ok()).map(str::to_owned).collect()
}

fn name_of(name: &GeneralName<'_>) -> Option<String> {
    match name {
        GeneralName::DNSName(name) => Some((*name).to_owned()),
        GeneralName::IPAddress([a, b, c, d]) => Some(std::net::Ipv4Addr::new(*a, *b, *c, *d).to_string()),
        GeneralName::IPAddress(bytes) => {
            <[u8; 16]>::try_from(*bytes).ok().map(|bytes| std::net::Ipv6Addr::from(bytes).to_string())
        }
        _ => None,
    }
}

fn hexadecimal(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

#[cfg(test)]
mod tests {
    use std::sync::LazyLock;

    use proptest::collection::vec;
    use proptest::prelude::*;
    use proptest::sample::Index;
    use rcgen::{CertificateParams, KeyPair};
    use time::macros::datetime;

    use super::*;

    #[test]
    fn a_certificate_tells_of_itself() {
        let mut params =
            CertificateParams::new(["relay.test".to_owned(), "127.0.0.1".to_owned(), "::1".to_owned()]).unwrap();
        (params.not_before, params.not_after) = (datetime!(2026-06-01 0:00 UTC), datetime!(2026-08-30 0:00 UTC));
        let made = params.self_signed(&KeyPair::generate().unwrap()).unwrap();
        let facts = CertificateFacts::of(made.der()).unwrap();
        assert_eq!(facts.names, ["relay.test", "127.0.0.1", "::1"]);
        assert_eq!((facts.since, facts.ends), (datetime!(2026-06-01 0:00 UTC), datetime!(2026-08-30 0:00 UTC)));
        assert_eq!(facts.issuer, "CN=rcgen self signed cert");
        assert_eq!((facts.fingerprint.len(), facts.is_placeholder), (64, false));
        assert_eq!(CertificateFacts::of(&made.der()[..100]), None);
    }

    proptest! {
        #[test]
        fn whatever_stands_in_one_is_no_harm(changes in vec((any::<Index>(), any::<u8>()), 0..12), length in any::<Index>()) {
            static MADE: LazyLock<Vec<u8>> = LazyLock::new(|| {
                let params = CertificateParams::new(["relay.test".to_owned(), "127.0.0.1".to_owned()]).unwrap();
                params.self_signed(&KeyPair::generate().unwrap()).unwrap().der().to_vec()
            });
            let mut bytes = MADE.clone();
            for (at, byte) in changes {
                let at = at.index(bytes.len());
                bytes[at] = byte;
            }
            let _ = CertificateFacts::of(&bytes);
            let _ = CertificateFacts::of(&bytes[..length.index(bytes.len())]);
        }
    }
}
