//! Making a connection to a platform.

use std::net::SocketAddr;
use std::time::{Duration, Instant};

use tokio::net::TcpStream;
use tokio::time::timeout;
use waverant_rtmp::{ClientConfig, ClientConnection, ClientPurpose, ClientTarget, Greeting, RtmpAddress};
use waverant_store::Destination;

use waverant_net::{Reach, Wire, connect, connect_tls, reach_of, resolve};

/// How long TLS may take to be set up.
const TLS_TIMEOUT: Duration = Duration::from_secs(5);

/// Connects to a destination, or to the address that it sent us to.
///
/// `home` says where the destination's own address leads; it is learnt there, and bounds where a platform may
/// send us: the key goes with us.
///
/// # Errors
/// In words.
pub(super) async fn dial(
    destination: &Destination,
    (address, is_moved): (&RtmpAddress, bool),
    greeting: Greeting,
    home: &mut Option<Reach>,
) -> Result<(Wire, ClientConnection), String> {
    let name = &destination.name;
    let addresses = resolve(address.host(), address.port()).await.map_err(|error| format!("{name}: {error}"))?;
    let addresses = if is_moved { permitted(addresses, *home) } else { addresses };
    if addresses.is_empty() {
        return Err(format!("{name} sent us to an address of this machine or house; that is not followed"));
    }
    if !is_moved {
        *home = addresses.first().map(|address| reach_of(address.ip()));
    }
    let connected = connect(&addresses).await;
    let (stream, _) = connected.map_err(|error| format!("{name} could not be reached: {error}"))?;
    let wire = secure(stream, destination, address).await.map_err(|error| format!("{name}: {error}"))?;
    Ok((wire, client(destination, address, greeting, ClientPurpose::Publish)))
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
///
/// # Errors
/// In words.
pub(super) async fn secure(
    stream: TcpStream,
    destination: &Destination,
    address: &RtmpAddress,
) -> Result<Wire, String> {
    if !address.is_secure() {
        return Ok(Wire::Plain(stream));
    }
    let connecting = connect_tls(stream, address.host(), destination.settings.authority.as_deref());
    match timeout(TLS_TIMEOUT, connecting).await {
        Ok(connected) => connected.map_err(|error| error.to_string()),
        Err(_) => Err(format!("TLS was not set up within {} s", TLS_TIMEOUT.as_secs())),
    }
}

/// Our side of a connection to a destination.
pub(super) fn client(
    destination: &Destination,
    address: &RtmpAddress,
    greeting: Greeting,
    purpose: ClientPurpose,
) -> ClientConnection {
    let target = ClientTarget {
        purpose,
        app: address.app().to_owned(),
        tc_url: address.to_string(),
        stream_name: destination.key.reveal().to_owned(),
    };
    let seed = destination.id.wrapping_mul(0x9e37_79b9_7f4a_7c15);
    let config = ClientConfig { seed, greeting, ..ClientConfig::default() };
    ClientConnection::new(config, target, Instant::now())
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
