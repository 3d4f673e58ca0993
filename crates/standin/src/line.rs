use std::net::{IpAddr, SocketAddr};
use std::pin::Pin;
use std::sync::Arc;

use anyhow::Context;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName};
use rustls::{ClientConfig, RootCertStore};
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpSocket, TcpStream};
use tokio_rustls::TlsConnector;
use waverant_rtmp::RtmpAddress;

/// A connection, in the clear or over TLS.
pub(crate) trait Line: AsyncRead + AsyncWrite + Send {}

impl<T: AsyncRead + AsyncWrite + Send> Line for T {}

pub(crate) type BoxedLine = Pin<Box<dyn Line>>;

/// Connects to an RTMP address, from an address of this machine if one is given; over TLS, `authority` (PEM) must have
/// signed the certificate.
pub(crate) async fn dial(
    address: &RtmpAddress,
    authority: Option<&str>,
    from: Option<IpAddr>,
) -> anyhow::Result<BoxedLine> {
    let stream = match from {
        None => TcpStream::connect((address.host(), address.port())).await.context("server")?,
        Some(from) => {
            let socket = TcpSocket::new_v4()?;
            socket.bind(SocketAddr::new(from, 0))?;
            socket.connect(format!("{}:{}", address.host(), address.port()).parse()?).await.context("server")?
        }
    };
    stream.set_nodelay(true)?;
    if !address.is_secure() {
        return Ok(Box::pin(stream));
    }
    let mut roots = RootCertStore::empty();
    for certificate in CertificateDer::pem_slice_iter(authority.unwrap_or_default().as_bytes()) {
        roots.add(certificate?)?;
    }
    let config = ClientConfig::builder().with_root_certificates(roots).with_no_client_auth();
    let name = ServerName::try_from(address.host().to_owned())?;
    let stream = TlsConnector::from(Arc::new(config)).connect(name, stream).await.context("TLS")?;
    Ok(Box::pin(stream))
}
