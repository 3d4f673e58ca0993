use std::io::{self, IoSliceMut};
use std::net::{SocketAddr, UdpSocket};

use bytes::BytesMut;
use quinn_udp::{BATCH_SIZE, RecvMeta, Transmit, UdpSockRef, UdpSocketState};
use tokio::io::Interest;

/// What one read may bring: as much as the kernel joins.
const SLOT_LENGTH: usize = 64 * 1024;

/// Reads share a block of memory until it is used up.
const BLOCK_LENGTH: usize = 4 * SLOT_LENGTH;

/// Reads in a row before what came is looked at.
const MAX_READS: usize = 32;

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
#[derive(Debug)]
pub struct Received {
    /// Where they come from.
    pub from: SocketAddr,
    /// One behind the other.
    pub bytes: BytesMut,
    /// The length of each but the last.
    pub stride: usize,
}

/// A UDP socket that moves many datagrams with one call, where the system can.
#[derive(Debug)]
pub struct DatagramSocket {
    socket: tokio::net::UdpSocket,
    state: UdpSocketState,
    slots: Vec<BytesMut>,
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
        let slots = (0..BATCH_SIZE).map(|_| BytesMut::new()).collect();
        Ok(Self { socket, state, slots, buffers })
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

    /// Waits for datagrams, and adds those that are there to `out`; of very many a part.
    ///
    /// # Errors
    /// What the system says.
    pub async fn receive(&mut self, out: &mut Vec<Received>) -> io::Result<()> {
        loop {
            self.socket.readable().await?;
            match self.try_receive(out) {
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => continue,
                Err(error) => return Err(error),
                Ok(mut count) => {
                    for _ in 1..MAX_READS {
                        if count < BATCH_SIZE {
                            break;
                        }
                        count = self.try_receive(out).unwrap_or(0);
                    }
                    return Ok(());
                }
            }
        }
    }

    fn try_receive(&mut self, out: &mut Vec<Received>) -> io::Result<usize> {
        for slot in &mut self.slots {
            if slot.len() < SLOT_LENGTH {
                *slot = BytesMut::zeroed(BLOCK_LENGTH);
            }
        }
        let mut metas = [RecvMeta::default(); BATCH_SIZE];
        let (socket, state, slots) = (&self.socket, &self.state, &mut self.slots);
        let mut views: [IoSliceMut<'_>; BATCH_SIZE] = {
            let mut slots = slots.iter_mut();
            std::array::from_fn(|_| IoSliceMut::new(slots.next().map_or(&mut [], |slot| &mut slot[..SLOT_LENGTH])))
        };
        let count =
            socket.try_io(Interest::READABLE, || state.recv(UdpSockRef::from(socket), &mut views, &mut metas))?;
        for (slot, meta) in self.slots.iter_mut().zip(&metas[..count]) {
            let bytes = slot.split_to(meta.len.min(SLOT_LENGTH));
            if meta.stride > 0 && !bytes.is_empty() {
                out.push(Received { from: meta.addr, bytes, stride: meta.stride });
            }
        }
        Ok(count)
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
