//! Datagrams in batches, and SRT over them: one task drives all connections of a socket.
//!
//! [`DatagramSocket`] moves datagrams, many with one call to the system. [`SrtSocket`] gives them
//! to the state machines of `waverant-srt`, and what comes out of those to a [`Doorkeeper`].

mod derivations;
mod doorkeeper;
mod driver;
mod fair_queue;
mod farewells;
mod link;
mod outbox;
mod rest;
mod socket;

pub use doorkeeper::{Deciding, Decision, Doorkeeper, Onward, Turned, Welcome};
pub use driver::SrtSocket;
pub use link::{Link, LinkError};
pub use outbox::Outbox;
pub use socket::{DatagramSocket, Inbox, Received, SocketBuffers};
