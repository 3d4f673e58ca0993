use std::sync::Arc;

use anyhow::Context;
use rcgen::{
    BasicConstraints, CertificateParams, CertificateSigningRequestParams, DnType, IsCa, Issuer, KeyPair,
    KeyUsagePurpose, date_time_ymd,
};
use rustls::ServerConfig;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use time::{Duration, OffsetDateTime};

/// How long a certificate is good.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Validity {
    /// Now and for a long time.
    Good,
    /// It ended long ago.
    Expired,
    /// It begins in a far future.
    NotYet,
    /// It ends so many seconds from now.
    EndsIn(u32),
}

/// A certificate with its key, as PEM.
#[derive(Clone, Debug)]
pub struct IssuedCertificate {
    /// The certificate.
    pub certificate: String,
    /// The private key.
    pub key: String,
}

/// An authority of our own that signs certificates for stand-ins.
#[derive(Debug)]
pub struct Authority {
    pem: String,
    issuer: Issuer<'static, KeyPair>,
}

impl Authority {
    /// Makes a new authority that nobody trusts yet.
    ///
    /// # Errors
    /// If a key cannot be made.
    pub fn new() -> anyhow::Result<Self> {
        let key = KeyPair::generate()?;
        let mut params = CertificateParams::default();
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        params.key_usages = vec![KeyUsagePurpose::KeyCertSign];
        params.distinguished_name.push(DnType::CommonName, "Wexcombe Reach test authority");
        let pem = params.self_signed(&key)?.pem();
        Ok(Self { pem, issuer: Issuer::new(params, key) })
    }

    /// Its own certificate.
    pub fn pem(&self) -> &str {
        &self.pem
    }

    /// Signs what is asked for; the certificate as PEM.
    ///
    /// # Errors
    /// If that cannot be signed.
    pub(crate) fn sign(&self, request: &CertificateSigningRequestParams) -> anyhow::Result<String> {
        Ok(request.signed_by(&self.issuer)?.pem())
    }

    /// Signs a certificate for the host `name`.
    ///
    /// # Errors
    /// If the name is none, or a key cannot be made.
    pub fn issue(&self, name: &str, validity: Validity) -> anyhow::Result<IssuedCertificate> {
        let key = KeyPair::generate()?;
        let mut params = CertificateParams::new(vec![name.to_owned()])?;
        (params.not_before, params.not_after) = match validity {
            Validity::Good => (date_time_ymd(2020, 1, 1), date_time_ymd(2090, 1, 1)),
            Validity::Expired => (date_time_ymd(2020, 1, 1), date_time_ymd(2021, 1, 1)),
            Validity::EndsIn(seconds) => {
                (date_time_ymd(2020, 1, 1), OffsetDateTime::now_utc() + Duration::seconds(seconds.into()))
            }
            Validity::NotYet => (date_time_ymd(2080, 1, 1), date_time_ymd(2090, 1, 1)),
        };
        let certificate = params.signed_by(&key, &self.issuer)?.pem();
        Ok(IssuedCertificate { certificate, key: key.serialize_pem() })
    }
}

impl IssuedCertificate {
    /// What a server with this certificate is set up with.
    ///
    /// # Errors
    /// If the certificate cannot be used.
    pub fn server_config(&self) -> anyhow::Result<Arc<ServerConfig>> {
        let chain = CertificateDer::pem_slice_iter(self.certificate.as_bytes()).collect::<Result<Vec<_>, _>>()?;
        let key = PrivateKeyDer::from_pem_slice(self.key.as_bytes())?;
        let config =
            ServerConfig::builder().with_no_client_auth().with_single_cert(chain, key).context("certificate")?;
        Ok(Arc::new(config))
    }
}
