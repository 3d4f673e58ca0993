use std::io::{self, IoSliceMut};
use std::net::{SocketAddr, UdpSocket};

use quinn_udp::{BATCH_SIZE, RecvMeta, Transmit, UdpSockRef, UdpSocketState};
use tokio::io::Interest;

/// What one datagram, or those that the kernel joins, may have.
const SLOT_LENGTH: usize = 64 * 1024;

/// Buffers that the kernel is asked for: half a second of a hundred streams.
const WANTED_BUFFER: usize = 8 * 1024 * 1024;

/// What the kernel keeps of a socket.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SocketBuffers {
    /// Bytes that wait to be read.
    pub receive: usize,
    /// Bytes that wait to be sent.
    pub send: usize,
    /// What was asked for.
    pub wanted: usize,
}

/// Datagrams of one peer that came at once.
#[derive(Clone, Copy, Debug)]
pub struct Received<'a> {
    /// Where they come from.
    pub from: SocketAddr,
    bytes: &'a [u8],
    stride: usize,
}

impl<'a> Received<'a> {
    /// The datagrams, one after the other.
    pub fn datagrams(&self) -> impl Iterator<Item = &'a [u8]> + use<'a> {
        self.bytes.chunks(self.stride.max(1))
    }
}

/// Room for what one read brings; used again for the next.
#[derive(Debug)]
pub struct Inbox {
    bytes: Vec<u8>,
    metas: [RecvMeta; BATCH_SIZE],
    count: usize,
}

impl Default for Inbox {
    fn default() -> Self {
        // The system gives pages only where something is written.
        Self { bytes: vec![0; SLOT_LENGTH * BATCH_SIZE], metas: [RecvMeta::default(); BATCH_SIZE], count: 0 }
    }
}

impl Inbox {
    /// What the last read brought.
    pub fn received(&self) -> impl Iterator<Item = Received<'_>> {
        let slots = self.bytes.chunks(SLOT_LENGTH).zip(&self.metas).take(self.count);
        slots.map(|(slot, meta)| Received {
            from: meta.addr,
            bytes: &slot[..meta.len.min(SLOT_LENGTH)],
            stride: meta.stride,
        })
    }

    /// True if there may be more than the last read brought.
    pub fn is_full(&self) -> bool {
        self.count == BATCH_SIZE
    }
}

/// A UDP socket that moves many datagrams with one call, where the system can.
#[derive(Debug)]
pub struct DatagramSocket {
    socket: tokio::net::UdpSocket,
    state: UdpSocketState,
    buffers: SocketBuffers,
}

impl DatagramSocket {
    /// Binds `address`.
    ///
    /// # Errors
    /// What the system says.
    pub fn bind(address: SocketAddr) -> io::Result<Self> {
        let socket = UdpSocket::bind(address)?;
        let state = UdpSocketState::new(UdpSockRef::from(&socket))?;
        // The kernel gives what it allows; how much that is is told by `buffers`.
        let _ = state.set_recv_buffer_size(UdpSockRef::from(&socket), WANTED_BUFFER);
        let _ = state.set_send_buffer_size(UdpSockRef::from(&socket), WANTED_BUFFER);
        let buffers = SocketBuffers {
            receive: state.recv_buffer_size(UdpSockRef::from(&socket))?,
            send: state.send_buffer_size(UdpSockRef::from(&socket))?,
            wanted: WANTED_BUFFER,
        };
        socket.set_nonblocking(true)?;
        let socket = tokio::net::UdpSocket::from_std(socket)?;
        Ok(Self { socket, state, buffers })
    }

    /// # Errors
    /// What the system says.
    pub fn local_address(&self) -> io::Result<SocketAddr> {
        self.socket.local_addr()
    }

    /// What the kernel keeps of this socket.
    pub fn buffers(&self) -> SocketBuffers {
        self.buffers
    }

    /// Datagrams that one [`send`](Self::send) can take.
    pub fn max_segments(&self) -> usize {
        self.state.max_gso_segments()
    }

    /// Waits until there may be datagrams.
    ///
    /// # Errors
    /// What the system says.
    pub async fn readable(&self) -> io::Result<()> {
        self.socket.readable().await
    }

    /// Reads what is there, without waiting and up to what `inbox` holds.
    ///
    /// # Errors
    /// What the system says.
    pub fn read(&self, inbox: &mut Inbox) -> io::Result<()> {
        inbox.count = 0;
        let mut slots = inbox.bytes.chunks_mut(SLOT_LENGTH);
        let mut views: [IoSliceMut<'_>; BATCH_SIZE] =
            std::array::from_fn(|_| IoSliceMut::new(slots.next().unwrap_or_default()));
        let (socket, state, metas) = (&self.socket, &self.state, &mut inbox.metas);
        match socket.try_io(Interest::READABLE, || state.recv(UdpSockRef::from(socket), &mut views, metas)) {
            Ok(count) => {
                inbox.count = count;
                Ok(())
            }
            Err(error) if error.kind() == io::ErrorKind::WouldBlock => Ok(()),
            Err(error) => Err(error),
        }
    }

    /// Sends datagrams of `segment` bytes each, the last one maybe shorter. False if the kernel
    /// takes nothing now.
    ///
    /// # Errors
    /// What the system says.
    pub fn send(&self, to: SocketAddr, contents: &[u8], segment: usize) -> io::Result<bool> {
        let segment_size = (contents.len() > segment).then_some(segment);
        let transmit = Transmit { destination: to, ecn: None, contents, segment_size, src_ip: None };
        // The kernel is asked itself: what Tokio knows of a socket that was just opened is that it
        // does not take anything yet.
        match self.state.try_send(UdpSockRef::from(&self.socket), &transmit) {
            Ok(()) => Ok(true),
            Err(error) if error.kind() == io::ErrorKind::WouldBlock => Ok(false),
            Err(error) => Err(error),
        }
    }
}
