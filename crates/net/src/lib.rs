//! Connections: the wire in the clear and over TLS, certificates, connecting to a host, the queue of what is to be
//! written, and the places at a door. Knows nothing of shows.

mod announcers;
mod caller;
mod certificate;
mod challenges;
mod connect;
mod places;
mod reach;
mod tls;
mod wire;
mod write_queue;

pub use announcers::{Announcers, Caller};
pub use caller::caller_of;
pub use certificate::CertificateFacts;
pub use challenges::Challenges;
pub use connect::{ConnectError, UNACKNOWLEDGED_LIMIT, bound_send_buffer, connect, give_up_after, resolve};
pub use places::{Place, Places};
pub use reach::{Reach, reach_of};
pub use tls::{ServerTls, TlsError, TlsFiles, client_config, connect_tls, read_authority};
pub use wire::{Moved, Wire};
pub use write_queue::WriteQueue;
