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

use door::Door;
use waverant_house::House;

/// Settings of the SRT front door.
#[derive(Clone, Debug)]
pub struct SrtSettings {
    /// Connections at once.
    pub max_connections: usize,
    /// Connections from one address at once.
    pub max_per_address: usize,
    /// Who says nothing for so long is gone.
    pub idle_timeout: Duration,
}

/// A bound SRT port.
#[derive(Debug)]
pub struct SrtDoor {
    socket: DatagramSocket,
}

impl SrtDoor {
    /// Binds `address`, where 0 is a free port. Says so if the kernel keeps less of the port than is wanted.
    pub fn bind(address: SocketAddr) -> io::Result<Self> {
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

    /// Where it is bound.
    ///
    /// # Errors
    /// What the system said.
    pub fn local_address(&self) -> io::Result<SocketAddr> {
        self.socket.local_address()
    }

    /// Takes callers until the service stops.
    pub async fn listen(self, house: Arc<House>, settings: SrtSettings) {
        let config = Config { idle_timeout: settings.idle_timeout, ..Config::default() };
        let stop = house.stopping().clone();
        let port = self.local_address().map_or(0, |address| address.port());
        let door = Door::new(house, port, settings, config.clone());
        match SrtSocket::new(self.socket, &config, door) {
            Ok(socket) => socket.run(stop).await,
            Err(error) => tracing::error!(%error, "no thread for the keys of SRT callers; nobody is taken over SRT"),
        }
    }
}
