//! Making a TCP connection to a host with several addresses.

use std::collections::VecDeque;
use std::io;
use std::net::SocketAddr;
use std::time::Duration;

use futures_util::StreamExt;
use futures_util::stream::FuturesUnordered;
use socket2::{SockRef, TcpKeepalive};
use thiserror::Error;
use tokio::net::{TcpSocket, TcpStream, lookup_host};
use tokio::time::{sleep, timeout};

/// How long a name look-up may take.
const RESOLVE_TIMEOUT: Duration = Duration::from_secs(5);

/// How long a TCP connection may take, all addresses together.
const CONNECT_TIMEOUT: Duration = Duration::from_secs(8);

/// An address that has not answered for this long gets company by the next one.
///
/// Source: RFC 8305, 5 and 8
const ATTEMPT_DELAY: Duration = Duration::from_millis(250);

/// Addresses of a host that are tried.
const MAX_ADDRESSES: usize = 8;

/// Bytes that the kernel holds for a platform, doubled by it. Left alone it would take megabytes,
/// and hide for half a minute that a platform has stopped reading; this carries 20 Mbit/s over
/// 200 ms of round trip.
const SEND_BUFFER: u32 = 256 * 1024;

/// Bytes that wait in the kernel for room at the platform before a leg keeps further ones to itself. A
/// slow platform so gets what is newer, and a little room is noticed as progress.
const UNSENT: u32 = 128 * 1024;

/// Bytes that nobody acknowledges for this long mean that the peer is gone.
pub const UNACKNOWLEDGED_LIMIT: Duration = Duration::from_secs(10);

/// After so long the kernel asks a peer that says nothing whether it is still there.
const QUIET: Duration = Duration::from_secs(20);

/// Why there is no connection to a host. None of it is our fault; all of it may pass.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum ConnectError {
    /// The name is not known.
    #[error("the name `{host}` was not found: {source}")]
    NotFound {
        /// The name.
        host: String,
        /// What the system said.
        source: io::Error,
    },
    /// Nobody said in time whether the name is known.
    #[error("the name `{host}` was not found within {} s", RESOLVE_TIMEOUT.as_secs())]
    NotFoundInTime {
        /// The name.
        host: String,
    },
    /// The name is known and leads nowhere.
    #[error("the name `{host}` has no address")]
    NoAddress {
        /// The name.
        host: String,
    },
    /// No address took the connection; what the last one said.
    #[error(transparent)]
    Refused(#[from] io::Error),
    /// No address answered in time.
    #[error("no answer within {} s", CONNECT_TIMEOUT.as_secs())]
    NoAnswer,
}

/// The addresses of a host, in the order in which they are to be tried; 8 at most.
///
/// # Errors
/// [`ConnectError`] if there is none, or nobody knows within 5 s.
pub async fn resolve(host: &str, port: u16) -> Result<Vec<SocketAddr>, ConnectError> {
    // An IPv6 address stands in brackets in URLs.
    let host = host.trim_start_matches('[').trim_end_matches(']');
    let found = match timeout(RESOLVE_TIMEOUT, lookup_host((host, port))).await {
        Ok(Ok(found)) => found,
        Ok(Err(source)) => return Err(ConnectError::NotFound { host: host.to_owned(), source }),
        Err(_) => return Err(ConnectError::NotFoundInTime { host: host.to_owned() }),
    };
    let addresses = in_turn(found.collect());
    if addresses.is_empty() { Err(ConnectError::NoAddress { host: host.to_owned() }) } else { Ok(addresses) }
}

/// Connects to the first address that answers, within 8 s. The connection keeps little that it has not sent, and
/// is given up after [`UNACKNOWLEDGED_LIMIT`].
///
/// # Errors
/// [`ConnectError`]: what the last address said, or that none did in time.
///
/// # Cancel safety
/// Dropping it gives up all tries.
///
/// Source: RFC 8305, 5
pub async fn connect(addresses: &[SocketAddr]) -> Result<(TcpStream, SocketAddr), ConnectError> {
    match timeout(CONNECT_TIMEOUT, race(addresses)).await {
        Ok(connected) => Ok(connected?),
        Err(_) => Err(ConnectError::NoAnswer),
    }
}

/// Families in turn, the one that the system prefers first.
///
/// Source: RFC 8305, 4
fn in_turn(found: Vec<SocketAddr>) -> Vec<SocketAddr> {
    let first_is_v6 = found.first().is_some_and(SocketAddr::is_ipv6);
    let (mut preferred, mut other): (VecDeque<_>, VecDeque<_>) =
        found.into_iter().partition(|address| address.is_ipv6() == first_is_v6);
    let mut ordered = Vec::new();
    while let Some(address) = preferred.pop_front() {
        ordered.push(address);
        ordered.extend(other.pop_front());
    }
    ordered.extend(other);
    ordered.truncate(MAX_ADDRESSES);
    ordered
}

/// Begins with one address after the other, without waiting for those that take long.
async fn race(addresses: &[SocketAddr]) -> io::Result<(TcpStream, SocketAddr)> {
    let mut waiting = addresses.iter();
    let mut running = FuturesUnordered::new();
    let mut failure = io::Error::other("the name has no address");
    running.extend(waiting.next().map(|address| open(*address)));
    while !running.is_empty() {
        tokio::select! {
            Some(opened) = running.next() => match opened {
                Ok(connected) => return Ok(connected),
                Err(error) => {
                    failure = error;
                    running.extend(waiting.next().map(|address| open(*address)));
                }
            },
            () = sleep(ATTEMPT_DELAY), if waiting.len() > 0 => {
                running.extend(waiting.next().map(|address| open(*address)));
            }
        }
    }
    Err(failure)
}

async fn open(address: SocketAddr) -> io::Result<(TcpStream, SocketAddr)> {
    let socket = if address.is_ipv4() { TcpSocket::new_v4()? } else { TcpSocket::new_v6()? };
    socket.set_send_buffer_size(SEND_BUFFER)?;
    socket.set_nodelay(true)?;
    let stream = socket.connect(address).await?;
    let options = SockRef::from(&stream);
    options.set_tcp_user_timeout(Some(UNACKNOWLEDGED_LIMIT))?;
    options.set_tcp_notsent_lowat(UNSENT)?;
    Ok((stream, address))
}

/// Has the kernel give up an accepted connection whose peer acknowledges nothing, or makes no room, for `limit`; also
/// one over which nothing goes for long.
///
/// Source: RFC 5482; RFC 1122, 4.2.3.6
///
/// # Errors
/// What the system says.
pub fn give_up_after(stream: &TcpStream, limit: Duration) -> io::Result<()> {
    let socket = SockRef::from(stream);
    socket.set_tcp_keepalive(&TcpKeepalive::new().with_time(QUIET).with_interval(limit / 3))?;
    socket.set_tcp_user_timeout(Some(limit))
}

/// Bounds what the kernel keeps of an accepted connection that its peer has not taken; it doubles the number. Left
/// alone it keeps megabytes for each.
///
/// # Errors
/// What the system says.
pub fn bound_send_buffer(stream: &TcpStream, bytes: usize) -> io::Result<()> {
    SockRef::from(stream).set_send_buffer_size(bytes)
}

#[cfg(test)]
mod tests {
    use std::time::Instant;

    use rstest::rstest;
    use tokio::net::TcpListener;

    use super::*;

    fn addresses(texts: &[&str]) -> Vec<SocketAddr> {
        texts.iter().map(|text| text.parse().unwrap()).collect()
    }

    #[rstest]
    #[case(&["[::1]:1", "[::2]:1", "10.0.0.1:1"], &["[::1]:1", "10.0.0.1:1", "[::2]:1"])]
    #[case(&["10.0.0.1:1", "10.0.0.2:1", "[::1]:1"], &["10.0.0.1:1", "[::1]:1", "10.0.0.2:1"])]
    #[case(&["10.0.0.1:1"], &["10.0.0.1:1"])]
    fn families_take_turns(#[case] found: &[&str], #[case] expected: &[&str]) {
        assert_eq!(in_turn(addresses(found)), addresses(expected));
    }

    #[tokio::test]
    async fn a_refusing_address_is_left_at_once() {
        let closed = TcpListener::bind("127.0.0.1:0").await.unwrap().local_addr().unwrap();
        let open = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let began = Instant::now();
        let (_, used) = connect(&[closed, open.local_addr().unwrap()]).await.unwrap();
        assert_eq!(used, open.local_addr().unwrap());
        assert!(began.elapsed() < ATTEMPT_DELAY);
    }

    /// A listener whose queue is full answers nothing, like an address behind a broken route.
    #[tokio::test]
    async fn a_silent_address_does_not_hold_up_the_next() {
        let socket = TcpSocket::new_v4().unwrap();
        socket.bind("127.0.0.1:0".parse().unwrap()).unwrap();
        let silent = socket.listen(1).unwrap();
        let address = silent.local_addr().unwrap();
        let mut fillers = Vec::new();
        while let Ok(Ok(filler)) = timeout(Duration::from_millis(200), TcpStream::connect(address)).await {
            fillers.push(filler);
        }
        let open = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let began = Instant::now();
        let (_, used) = connect(&[address, open.local_addr().unwrap()]).await.unwrap();
        assert_eq!(used, open.local_addr().unwrap());
        assert!((ATTEMPT_DELAY..ATTEMPT_DELAY * 8).contains(&began.elapsed()), "{:?}", began.elapsed());
    }

    #[tokio::test]
    async fn a_name_that_is_not_there_is_told() {
        let error = resolve("no-such-host.invalid", 1935).await.unwrap_err().to_string();
        assert!(error.starts_with("the name `no-such-host.invalid` was not found"), "{error}");
        assert_eq!(resolve("[::1]", 7).await.unwrap(), addresses(&["[::1]:7"]));
    }
}
