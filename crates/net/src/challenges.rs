use std::collections::HashMap;
use std::io;
use std::sync::Arc;

use parking_lot::RwLock;
use rustls::ServerConfig;
use rustls::crypto::ring::sign::any_supported_type;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::sign::{CertifiedKey, SingleCertAndKey};

/// What an authority says in the handshake when it looks whether a name is ours. Source: RFC 8737, 6.2
pub(crate) const ACME_TLS: &[u8] = b"acme-tls/1";

/// What an authority is shown that looks whether names are ours, while it does: at the doors for HTTP, and for HTTP over
/// TLS.
///
/// Source: RFC 8555, 8; RFC 8737
#[derive(Debug, Default)]
pub struct Challenges {
    answers: RwLock<HashMap<String, String>>,
    certificates: RwLock<HashMap<String, Arc<ServerConfig>>>,
}

impl Challenges {
    /// Shows `answer` to who asks for `token`.
    pub fn show_answer(&self, token: &str, answer: &str) {
        self.answers.write().insert(token.to_owned(), answer.to_owned());
    }

    /// Shows a certificate to an authority that calls for `name` in the handshake.
    ///
    /// # Errors
    /// If the key is of no kind that is known.
    pub fn show_certificate(
        &self,
        name: &str,
        certificate: CertificateDer<'static>,
        key: PrivateKeyDer<'static>,
    ) -> Result<(), rustls::Error> {
        // Nobody but the authority understands its critical extension: it is not looked at here.
        let key = any_supported_type(&key)?;
        let shown = SingleCertAndKey::from(CertifiedKey::new(vec![certificate], key));
        let mut config = ServerConfig::builder().with_no_client_auth().with_cert_resolver(Arc::new(shown));
        config.alpn_protocols = vec![ACME_TLS.to_vec()];
        self.certificates.write().insert(name.to_ascii_lowercase(), Arc::new(config));
        Ok(())
    }

    /// Shows nothing any more.
    pub fn clear(&self) {
        self.answers.write().clear();
        self.certificates.write().clear();
    }

    /// What is shown to who asks for `token`.
    pub fn answer(&self, token: &str) -> Option<String> {
        self.answers.read().get(token).cloned()
    }

    pub(crate) fn certificate(&self, name: Option<&str>) -> io::Result<Arc<ServerConfig>> {
        let known = name.and_then(|name| self.certificates.read().get(&name.to_ascii_lowercase()).cloned());
        let told = || format!("an authority looks for {}, of which nothing is to be shown", name.unwrap_or("no name"));
        known.ok_or_else(|| io::Error::other(told()))
    }
}
