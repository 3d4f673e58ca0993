//! TLS: our own certificate for encoders, and checking that of platforms.

use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, LazyLock};
use std::time::{Duration, SystemTime};

use parking_lot::RwLock;
use rustls::client::Resumption;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName};
use rustls::{CertificateError, ClientConfig, RootCertStore, ServerConfig};
use thiserror::Error;
use tokio::io::AsyncWriteExt;
use tokio::net::TcpStream;
use tokio::sync::watch;
use tokio::time::sleep;
use tokio_rustls::server::TlsStream;
use tokio_rustls::{LazyConfigAcceptor, TlsAcceptor, TlsConnector};
use tokio_util::sync::CancellationToken;

use crate::challenges::ACME_TLS;
use crate::{CertificateFacts, Challenges, Wire};

/// How often the certificate is looked at for a change.
const LOOK_EVERY: Duration = Duration::from_secs(2);

/// What callers who speak HTTP/2 say in the handshake.
const HTTP_2: &[u8] = b"h2";

/// Where our certificate is, and how it is used.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TlsFiles {
    /// The certificate, and those between it and its authority, as PEM.
    pub certificate: PathBuf,
    /// Its private key, as PEM.
    pub key: PathBuf,
    /// TLS 1.3 session tickets that each encoder is sent. Some old ones break when they get any.
    pub tickets: usize,
}

/// Why TLS cannot be set up, or what is wrong with a certificate: in words that say what to do.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum TlsError {
    /// A file of our certificate cannot be used: for whoever runs the house to mend.
    #[error("{}: {told}", path.display())]
    File {
        /// The file.
        path: PathBuf,
        /// What was found, and what was expected.
        told: String,
    },
    /// The certificate of a platform's own authority cannot be used: for whoever set it to mend.
    #[error("{0}")]
    Authority(String),
    /// The host has no name that TLS could look for.
    #[error("`{0}` is no name for TLS")]
    Name(String),
    /// The peer, or its certificate.
    #[error("{0}")]
    Peer(String),
}

/// The server's side of TLS. The certificate can be exchanged while connections run.
#[derive(Debug)]
pub struct ServerTls {
    files: TlsFiles,
    configs: RwLock<Configs>,
    facts: watch::Sender<Option<Arc<CertificateFacts>>>,
    challenges: Challenges,
}

/// How encoders are taken, and callers over HTTP.
#[derive(Clone, Debug)]
struct Configs {
    /// What the certificate says of itself; None if that cannot be read.
    facts: Option<Arc<CertificateFacts>>,
    encoders: Arc<ServerConfig>,
    http: Arc<ServerConfig>,
}

impl ServerTls {
    /// Reads the certificate.
    ///
    /// # Errors
    /// [`TlsError::File`] with the file that is at fault.
    pub fn open(files: TlsFiles) -> Result<Arc<Self>, TlsError> {
        let configs = load(&files)?;
        Ok(Self::with(files, configs))
    }

    /// Reads the certificate, or takes one that stands in for it (PEM, with its key) until there is one.
    ///
    /// # Errors
    /// [`TlsError::File`] if there is one, and it cannot be used.
    pub fn open_or(files: TlsFiles, placeholder: impl FnOnce() -> Option<String>) -> Result<Arc<Self>, TlsError> {
        if files.certificate.exists() {
            return Self::open(files);
        }
        let missing = || failed(&files.certificate, "no placeholder could be made", &"this is a fault of ours");
        let pem = placeholder().ok_or_else(missing)?;
        let certificates: Result<Vec<_>, _> = CertificateDer::pem_slice_iter(pem.as_bytes()).collect();
        let key = PrivateKeyDer::from_pem_slice(pem.as_bytes()).map_err(|_| missing())?;
        let mut configs = configs(&files, certificates.map_err(|_| missing())?, key)?;
        let marked =
            |facts: Arc<CertificateFacts>| Arc::new(CertificateFacts { is_placeholder: true, ..(*facts).clone() });
        configs.facts = configs.facts.map(marked);
        Ok(Self::with(files, configs))
    }

    fn with(files: TlsFiles, configs: Configs) -> Arc<Self> {
        let facts = watch::Sender::new(configs.facts.clone());
        Arc::new(Self { files, configs: RwLock::new(configs), facts, challenges: Challenges::default() })
    }

    /// What the certificate in use says of itself, now and whenever it is exchanged.
    pub fn facts(&self) -> watch::Receiver<Option<Arc<CertificateFacts>>> {
        self.facts.subscribe()
    }

    /// What an authority is shown that looks whether names are ours.
    pub fn challenges(&self) -> &Challenges {
        &self.challenges
    }

    /// Makes a TLS connection of an accepted one. The caller sets a time limit.
    ///
    /// # Errors
    /// What went wrong in the handshake.
    pub async fn accept(&self, stream: TcpStream) -> io::Result<Wire> {
        let acceptor = TlsAcceptor::from(self.configs.read().encoders.clone());
        Ok(Wire::Tls(Box::new(acceptor.accept(stream).await?.into())))
    }

    /// Makes a TLS connection for HTTP of an accepted one; true if both ends speak HTTP/2. None if it was an authority that
    /// looked whether a name is ours: it says nothing more. The caller sets a time limit.
    ///
    /// Source: RFC 9113, 3.2 (`h2`); RFC 7301; RFC 8737, 3
    ///
    /// # Errors
    /// What went wrong in the handshake.
    pub async fn accept_http(&self, stream: TcpStream) -> io::Result<Option<(TlsStream<TcpStream>, bool)>> {
        let start = LazyConfigAcceptor::new(rustls::server::Acceptor::default(), stream).await?;
        let hello = start.client_hello();
        if hello.alpn().is_some_and(|mut said| said.any(|said| said == ACME_TLS)) {
            let config = self.challenges.certificate(hello.server_name())?;
            start.into_stream(config).await?.shutdown().await?;
            return Ok(None);
        }
        let config = self.configs.read().http.clone();
        let stream = start.into_stream(config).await?;
        let is_second = stream.get_ref().1.alpn_protocol() == Some(HTTP_2);
        Ok(Some((stream, is_second)))
    }

    /// Reads the certificate anew whenever its files change, until the service stops. One that
    /// cannot be used is logged, and the one before stays.
    pub async fn follow_files(self: Arc<Self>, stopping: CancellationToken) {
        let mut seen = self.modified();
        loop {
            tokio::select! {
                () = sleep(LOOK_EVERY) => {}
                () = stopping.cancelled() => return,
            }
            let now = self.modified();
            if now == seen {
                continue;
            }
            seen = now;
            match load(&self.files) {
                Ok(configs) => {
                    let facts = configs.facts.clone();
                    *self.configs.write() = configs;
                    self.facts.send_replace(facts);
                    tracing::info!(file = %self.files.certificate.display(), "the new certificate is in use");
                }
                Err(error) => tracing::error!(%error, "the new certificate cannot be used; the one before stays"),
            }
        }
    }

    fn modified(&self) -> [Option<SystemTime>; 2] {
        [&self.files.certificate, &self.files.key]
            .map(|file| std::fs::metadata(file).and_then(|data| data.modified()).ok())
    }
}

fn failed(file: &Path, what: &str, error: &dyn std::fmt::Display) -> TlsError {
    TlsError::File { path: file.to_owned(), told: format!("{what}: {error}") }
}

fn load(files: &TlsFiles) -> Result<Configs, TlsError> {
    let certificates = read_certificates(&files.certificate)
        .map_err(|error| failed(&files.certificate, "a PEM certificate was expected", &error))?;
    let key = PrivateKeyDer::from_pem_file(&files.key)
        .map_err(|error| failed(&files.key, "a PEM private key was expected", &error))?;
    configs(files, certificates, key)
}

fn configs(
    files: &TlsFiles,
    certificates: Vec<CertificateDer<'static>>,
    key: PrivateKeyDer<'static>,
) -> Result<Configs, TlsError> {
    let facts = certificates.first().and_then(|certificate| CertificateFacts::of(certificate)).map(Arc::new);
    let mut config = ServerConfig::builder()
        .with_no_client_auth()
        .with_single_cert(certificates, key)
        .map_err(|error| failed(&files.certificate, "certificate and key do not go together", &error))?;
    let mut http = config.clone();
    http.alpn_protocols = vec![HTTP_2.to_vec(), b"http/1.1".to_vec()];
    config.send_tls13_tickets = files.tickets;
    Ok(Configs { facts, encoders: Arc::new(config), http: Arc::new(http) })
}

fn read_certificates(file: &Path) -> Result<Vec<CertificateDer<'static>>, String> {
    let certificates: Result<Vec<_>, _> =
        CertificateDer::pem_file_iter(file).map_err(|error| error.to_string())?.collect();
    let certificates = certificates.map_err(|error| error.to_string())?;
    if certificates.is_empty() { Err("no certificate is in it".to_owned()) } else { Ok(certificates) }
}

/// The authorities that this machine trusts, read once.
static SYSTEM_AUTHORITIES: LazyLock<Arc<ClientConfig>> = LazyLock::new(|| {
    let mut roots = RootCertStore::empty();
    let found = rustls_native_certs::load_native_certs();
    for error in found.errors {
        tracing::warn!(%error, "some authorities of this machine cannot be read");
    }
    let (added, _) = roots.add_parsable_certificates(found.certs);
    tracing::debug!(added, "authorities of this machine");
    config_trusting(roots)
});

/// How servers are called: trusting `authority` (PEM), or the authorities of this machine if there is none. Reading those
/// takes a while, once.
///
/// # Errors
/// [`TlsError::Authority`] that says what was found.
pub fn client_config(authority: Option<&str>) -> Result<Arc<ClientConfig>, TlsError> {
    match authority {
        Some(pem) => read_authority(pem).map(config_trusting),
        None => Ok(SYSTEM_AUTHORITIES.clone()),
    }
}

fn config_trusting(roots: RootCertStore) -> Arc<ClientConfig> {
    let mut config = ClientConfig::builder().with_root_certificates(roots).with_no_client_auth();
    // A resumed session would not look at the certificate again; legs dial seldom.
    config.resumption = Resumption::disabled();
    Arc::new(config)
}

/// Reads the certificates (PEM) of a platform's own authority.
///
/// # Errors
/// [`TlsError::Authority`] that says what was found.
pub fn read_authority(pem: &str) -> Result<RootCertStore, TlsError> {
    let mut roots = RootCertStore::empty();
    for certificate in CertificateDer::pem_slice_iter(pem.as_bytes()) {
        let wrong = |error: &dyn std::fmt::Display, what: &str| TlsError::Authority(format!("{what}: {error}"));
        let certificate = certificate.map_err(|error| wrong(&error, "a PEM certificate was expected"))?;
        roots.add(certificate).map_err(|error| wrong(&error, "this is no certificate of an authority"))?;
    }
    if roots.is_empty() {
        let told = "a PEM certificate was expected, which begins with -----BEGIN CERTIFICATE-----";
        return Err(TlsError::Authority(told.to_owned()));
    }
    Ok(roots)
}

/// Makes a TLS connection to the platform `host` of a connected one. Its certificate must be
/// signed by `authority`, or by one that this machine trusts if there is none.
///
/// # Errors
/// [`TlsError`] that says what is wrong with the certificate. The caller sets a time limit.
pub async fn connect_tls(stream: TcpStream, host: &str, authority: Option<&str>) -> Result<Wire, TlsError> {
    let config = match authority {
        Some(pem) => {
            let told = |error: TlsError| TlsError::Authority(format!("authority of the destination: {error}"));
            client_config(Some(pem)).map_err(told)?
        }
        // Reading them takes a while, once.
        None => match tokio::task::spawn_blocking(|| SYSTEM_AUTHORITIES.clone()).await {
            Ok(config) => config,
            Err(error) => return Err(TlsError::Authority(error.to_string())),
        },
    };
    let name = ServerName::try_from(host.to_owned()).map_err(|_| TlsError::Name(host.to_owned()))?;
    match TlsConnector::from(config).connect(name, stream).await {
        Ok(stream) => Ok(Wire::Tls(Box::new(stream.into()))),
        Err(error) => Err(TlsError::Peer(explain(&error, host))),
    }
}

/// What is wrong, and what to do.
fn explain(error: &io::Error, host: &str) -> String {
    let Some(cause) = error.get_ref().and_then(|cause| cause.downcast_ref::<rustls::Error>()) else {
        return format!("TLS was broken off: {error}");
    };
    match cause {
        rustls::Error::InvalidCertificate(cause) => explain_certificate(cause, host),
        rustls::Error::InvalidMessage(_) => {
            "it does not speak TLS on this port; is `rtmp://` meant, or another port?".to_owned()
        }
        cause => format!("TLS failed: {cause}"),
    }
}

fn explain_certificate(cause: &CertificateError, host: &str) -> String {
    match cause {
        CertificateError::Expired | CertificateError::ExpiredContext { .. } => {
            "its certificate has expired; tell the platform, or set this machine's clock".to_owned()
        }
        CertificateError::NotValidYet | CertificateError::NotValidYetContext { .. } => {
            "its certificate is not valid yet; is this machine's clock right?".to_owned()
        }
        CertificateError::UnknownIssuer => "its certificate is signed by no authority that is trusted here; if the \
             platform has an authority of its own, give its certificate to the destination"
            .to_owned(),
        CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. } => {
            format!("its certificate is for another name than `{host}`; check the host in the address")
        }
        CertificateError::Revoked => "its certificate was revoked".to_owned(),
        cause => format!("its certificate cannot be used: {cause}"),
    }
}
