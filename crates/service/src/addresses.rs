use std::net::SocketAddr;

use serde::{Deserialize, Serialize};

/// Where the service listens, as bound.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Addresses {
    /// Encoders.
    pub rtmp: SocketAddr,
    /// Encoders over TLS, if there is a certificate.
    pub rtmps: Option<SocketAddr>,
    /// Encoders and players over SRT.
    pub srt: SocketAddr,
    /// Console and API.
    pub http: SocketAddr,
    /// Console and API over TLS, if there is a certificate.
    pub https: Option<SocketAddr>,
    /// Where callers in the clear are led to that, if there is a certificate.
    pub redirect: Option<SocketAddr>,
    /// Viewers.
    pub viewing: SocketAddr,
    /// Viewers over TLS, if there is a certificate.
    pub viewing_https: Option<SocketAddr>,
    /// The service's process number.
    pub pid: u32,
    /// The private database's process number.
    pub database_pid: Option<u32>,
}
