//! Connections to the database, and the private server.

mod copying;
mod examine;
mod migrations;
mod patient_pool;
mod private_server;
mod store;

pub use copying::{CopyingError, read_records, write_records};
pub use examine::examine_database;
pub use migrations::other_schema;
pub use private_server::{PrivateServer, PrivateServerError};
pub use store::Store;
