//! Making a connection to a platform.

use std::time::{Duration, Instant};

use tokio::net::{TcpSocket, TcpStream, lookup_host};
use tokio::time::timeout;
use waverant_rtmp::{ClientConfig, ClientConnection, ClientPurpose, ClientTarget, Greeting, RtmpAddress};
use waverant_store::Destination;

use crate::net::{Wire, connect_tls};

/// How long a name look-up with a TCP connection may take.
const CONNECT_TIMEOUT: Duration = Duration::from_secs(8);

/// How long TLS may take to be set up.
const TLS_TIMEOUT: Duration = Duration::from_secs(5);

/// Bytes that the kernel holds for a platform, doubled by it. Left alone it would take megabytes,
/// and hide for half a minute that a platform has stopped reading; this carries 20 Mbit/s over
/// 200 ms of round trip.
const SEND_BUFFER: u32 = 256 * 1024;

/// Connects to a destination, or to the address that it sent us to.
///
/// # Errors
/// In words.
pub(super) async fn connect(
    destination: &Destination,
    address: &RtmpAddress,
    greeting: Greeting,
) -> Result<(Wire, ClientConnection), String> {
    let name = &destination.name;
    let stream = match timeout(CONNECT_TIMEOUT, open_socket(address.host(), address.port())).await {
        Ok(Ok(stream)) => stream,
        Ok(Err(error)) => return Err(format!("{name} could not be reached: {error}")),
        Err(_) => return Err(format!("{name} did not answer within {} s", CONNECT_TIMEOUT.as_secs())),
    };
    let wire = if address.is_secure() {
        let connecting = connect_tls(stream, address.host(), destination.authority.as_deref());
        match timeout(TLS_TIMEOUT, connecting).await {
            Ok(connected) => connected.map_err(|error| format!("{name}: {error}"))?,
            Err(_) => return Err(format!("{name} did not set up TLS within {} s", TLS_TIMEOUT.as_secs())),
        }
    } else {
        Wire::Plain(stream)
    };
    let target = ClientTarget {
        purpose: ClientPurpose::Publish,
        app: address.app().to_owned(),
        tc_url: address.to_string(),
        stream_name: destination.key.reveal().to_owned(),
    };
    let seed = destination.id.wrapping_mul(0x9e37_79b9_7f4a_7c15);
    let config = ClientConfig { seed, greeting, ..ClientConfig::default() };
    Ok((wire, ClientConnection::new(config, target, Instant::now())))
}

/// Tries the addresses of a host one after the other.
async fn open_socket(host: &str, port: u16) -> std::io::Result<TcpStream> {
    let mut failure = std::io::Error::other("the name has no address");
    for address in lookup_host((host, port)).await? {
        let socket = if address.is_ipv4() { TcpSocket::new_v4()? } else { TcpSocket::new_v6()? };
        socket.set_send_buffer_size(SEND_BUFFER)?;
        socket.set_nodelay(true)?;
        match socket.connect(address).await {
            Ok(stream) => return Ok(stream),
            Err(error) => failure = error,
        }
    }
    Err(failure)
}
