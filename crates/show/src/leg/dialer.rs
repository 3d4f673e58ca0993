//! Making a connection to a platform over TCP.

use std::fmt::Debug;
use std::future::Future;
use std::net::SocketAddr;
use std::pin::Pin;
use std::time::Duration;

use thiserror::Error;
use tokio::net::TcpStream;
use tokio::time::timeout;
use waverant_net::{ConnectError, Reach, TlsError, Wire, connect, connect_tls, reach_of, resolve};
use waverant_relay::LegDestination;
use waverant_rtmp::RtmpAddress;

/// How long TLS may take to be set up.
const TLS_TIMEOUT: Duration = Duration::from_secs(5);

/// Where a connection is to go.
#[derive(Debug)]
pub struct Call<'a> {
    /// The destination.
    pub destination: &'a LegDestination,
    /// Its address, or the one that it sent us to.
    pub address: &'a RtmpAddress,
    /// True if it sent us there.
    pub is_moved: bool,
    /// Where the destination's own address leads, if that was learnt: it bounds where a platform may send us, for
    /// the key goes with us.
    pub home: Option<Reach>,
}

/// A connection that was made.
#[derive(Debug)]
pub struct Dialed {
    /// The connection.
    pub wire: Wire,
    /// Where the destination's own address leads.
    pub home: Option<Reach>,
}

/// Why there is no connection. None of it is our fault, and it is tried again.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum DialError {
    /// The host's addresses are not known.
    #[error("{0}")]
    Resolve(ConnectError),
    /// The platform sent us to where it may not.
    #[error("it sent us to an address of this machine or house; that is not followed")]
    Forbidden,
    /// No address takes the connection.
    #[error("it could not be reached: {0}")]
    Connect(ConnectError),
    /// TLS cannot be set up.
    #[error("{0}")]
    Tls(#[from] TlsError),
    /// TLS was not set up in time.
    #[error("TLS was not set up within {} s", TLS_TIMEOUT.as_secs())]
    TlsSlow,
}

impl DialError {
    /// In words that name the destination.
    pub(super) fn told(&self, name: &str) -> String {
        let text = self.to_string();
        text.strip_prefix("it ").map_or_else(|| format!("{name}: {text}"), |rest| format!("{name} {rest}"))
    }
}

/// What a dialer promises.
pub type Dialing<'a> = Pin<Box<dyn Future<Output = Result<Dialed, DialError>> + Send + 'a>>;

/// Makes connections to platforms; in tests another one stands in.
pub trait Dialer: Debug + Send + Sync {
    /// Makes a connection. Dropping the future gives up.
    fn dial<'a>(&'a self, call: Call<'a>) -> Dialing<'a>;
}

/// Dials over TCP, and TLS where the address asks for it.
#[derive(Clone, Copy, Debug, Default)]
pub struct TcpDialer;

impl Dialer for TcpDialer {
    fn dial<'a>(&'a self, call: Call<'a>) -> Dialing<'a> {
        Box::pin(dial(call))
    }
}

async fn dial(Call { destination, address, is_moved, home }: Call<'_>) -> Result<Dialed, DialError> {
    let addresses = resolve(address.host(), address.port()).await.map_err(DialError::Resolve)?;
    let addresses = if is_moved { permitted(addresses, home) } else { addresses };
    if addresses.is_empty() {
        return Err(DialError::Forbidden);
    }
    let first = addresses.first().map(|address| reach_of(address.ip()));
    let home = if is_moved { home } else { first };
    let (stream, _) = connect(&addresses).await.map_err(DialError::Connect)?;
    let wire = secure(stream, destination, address).await?;
    Ok(Dialed { wire, home })
}

/// Of the addresses that a platform sent us to, those that we may go to.
fn permitted(addresses: Vec<SocketAddr>, home: Option<Reach>) -> Vec<SocketAddr> {
    let may = |address: &SocketAddr| match reach_of(address.ip()) {
        Reach::Public => true,
        Reach::Never => false,
        reach => home == Some(reach),
    };
    addresses.into_iter().filter(may).collect()
}

/// Sets up TLS where the address asks for it.
pub(super) async fn secure(
    stream: TcpStream,
    destination: &LegDestination,
    address: &RtmpAddress,
) -> Result<Wire, DialError> {
    if !address.is_secure() {
        return Ok(Wire::Plain(stream));
    }
    let connecting = connect_tls(stream, address.host(), destination.authority.as_deref());
    match timeout(TLS_TIMEOUT, connecting).await {
        Ok(connected) => Ok(connected?),
        Err(_) => Err(DialError::TlsSlow),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// A platform on the internet does not send us into the house; one in the house may, and nobody to where
    /// clouds keep their secrets.
    #[rstest]
    #[case::to_another_public_one("203.0.113.9:1935", Some(Reach::Public), true)]
    #[case::to_this_machine("127.0.0.1:3306", Some(Reach::Public), false)]
    #[case::to_this_machine_mapped("[::ffff:127.0.0.1]:3306", Some(Reach::Public), false)]
    #[case::into_the_house("10.1.1.1:80", Some(Reach::Public), false)]
    #[case::from_house_to_house("10.1.1.1:80", Some(Reach::Private), true)]
    #[case::from_the_house_to_this_machine("127.0.0.1:80", Some(Reach::Private), false)]
    #[case::on_this_machine("127.0.0.1:80", Some(Reach::Loopback), true)]
    #[case::to_the_secrets_of_a_cloud("169.254.169.254:80", Some(Reach::Never), false)]
    #[case::before_the_first_address_is_known("127.0.0.1:80", None, false)]
    fn where_a_platform_may_send_us(#[case] to: &str, #[case] home: Option<Reach>, #[case] expected: bool) {
        let public: SocketAddr = "198.51.100.7:1935".parse().unwrap();
        let to: SocketAddr = to.parse().unwrap();
        let expected = if expected { vec![to, public] } else { vec![public] };
        assert_eq!(permitted(vec![to, public], home), expected);
    }
}
