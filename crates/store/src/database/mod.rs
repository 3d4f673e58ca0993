//! Connections to the database, and the private server.

mod private_server;
mod store;

pub use private_server::{PrivateServer, PrivateServerError};
pub use store::Store;
