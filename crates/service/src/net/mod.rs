//! What the drivers of all protocols share.

mod caller;
mod connect;
mod places;
mod reach;
mod tls;
mod wire;
mod write_queue;

pub(crate) use caller::caller_of;
pub(crate) use connect::{UNACKNOWLEDGED_LIMIT, connect, resolve};
pub(crate) use places::{Place, Places};
pub(crate) use reach::{Reach, reach_of};
pub(crate) use tls::{ServerTls, TlsFiles, connect_tls, read_authority};
pub(crate) use wire::{Moved, Wire};
pub(crate) use write_queue::WriteQueue;
