//! A certificate for both sides of a benchmark over TLS.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use rustls::pki_types::ServerName;
use rustls::pki_types::pem::PemObject;
use rustls::{ClientConfig, RootCertStore};
use tokio::net::TcpStream;
use tokio_rustls::client::TlsStream;
use tokio_rustls::{TlsAcceptor, TlsConnector};
use waverant_standin::{Authority, IssuedCertificate, Validity};

/// An authority with a certificate for `localhost`, in files too.
pub(crate) struct Tls {
    pub(crate) authority: String,
    issued: IssuedCertificate,
    folder: PathBuf,
}

impl Tls {
    pub(crate) fn make(folder: &Path) -> anyhow::Result<Self> {
        let authority = Authority::new()?;
        let issued = authority.issue("localhost", Validity::Good)?;
        std::fs::write(folder.join("authority"), authority.pem())?;
        std::fs::write(folder.join("certificate"), &issued.certificate)?;
        std::fs::write(folder.join("key"), &issued.key)?;
        Self::open(folder)
    }

    pub(crate) fn open(folder: &Path) -> anyhow::Result<Self> {
        let read = |name: &str| std::fs::read_to_string(folder.join(name));
        let issued = IssuedCertificate { certificate: read("certificate")?, key: read("key")? };
        issued.server_config()?;
        Ok(Self { authority: read("authority")?, issued, folder: folder.to_owned() })
    }

    pub(crate) fn folder(&self) -> &Path {
        &self.folder
    }

    #[expect(clippy::expect_used, reason = "it was tried when it was opened")]
    pub(crate) fn acceptor(&self) -> TlsAcceptor {
        TlsAcceptor::from(self.issued.server_config().expect("the certificate was tried"))
    }

    pub(crate) async fn connect(&self, stream: TcpStream) -> anyhow::Result<TlsStream<TcpStream>> {
        let mut roots = RootCertStore::empty();
        for certificate in rustls::pki_types::CertificateDer::pem_slice_iter(self.authority.as_bytes()) {
            roots.add(certificate?)?;
        }
        let config = ClientConfig::builder().with_root_certificates(roots).with_no_client_auth();
        let name = ServerName::try_from("localhost")?;
        Ok(TlsConnector::from(Arc::new(config)).connect(name, stream).await?)
    }
}
