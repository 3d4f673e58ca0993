//! The SRT front door: publishers come in, and players of the house are served, on one port.

mod door;
mod guest;
mod refusal;

use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use waverant_srt::Config;
use waverant_udp::{DatagramSocket, SrtSocket};

use crate::house::House;
use door::Door;

/// Settings of the SRT front door.
#[derive(Clone, Debug)]
pub(crate) struct SrtSettings {
    pub(crate) max_connections: usize,
    pub(crate) max_per_address: usize,
    pub(crate) idle_timeout: Duration,
}

/// A bound SRT port.
#[derive(Debug)]
pub(crate) struct SrtDoor {
    socket: DatagramSocket,
}

impl SrtDoor {
    /// Binds `address`. Says so if the kernel keeps less of the port than is wanted.
    pub(crate) fn bind(address: SocketAddr) -> io::Result<Self> {
        let socket = DatagramSocket::bind(address)?;
        let buffers = socket.buffers();
        if buffers.receive < buffers.wanted {
            tracing::warn!(
                bytes = buffers.receive,
                wanted = buffers.wanted,
                "the system keeps a small receive buffer for SRT; many streams at once may lose packets. \
                 Raise it: sysctl -w net.core.rmem_max={}",
                buffers.wanted
            );
        }
        Ok(Self { socket })
    }

    pub(crate) fn local_address(&self) -> io::Result<SocketAddr> {
        self.socket.local_address()
    }

    /// Takes callers until the service stops.
    pub(crate) async fn listen(self, house: Arc<House>, settings: SrtSettings) {
        let config = Config { idle_timeout: settings.idle_timeout, ..Config::default() };
        let stop = house.stopping.clone();
        let door = Door::new(house, settings, config.clone());
        match SrtSocket::new(self.socket, &config, door) {
            Ok(socket) => socket.run(stop).await,
            Err(error) => tracing::error!(%error, "no thread for the keys of SRT callers; nobody is taken over SRT"),
        }
    }
}
