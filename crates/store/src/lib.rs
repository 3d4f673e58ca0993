//! The records of the house in MariaDB, secrets at rest, and the private database server.
//!
//! SQL stays inside this crate. Times are UTC.

mod database;
mod error;
mod records;
mod secrets;
#[cfg(feature = "testing")]
mod testing;

pub use database::{PrivateServer, PrivateServerError, Store};
pub use error::StoreError;
pub use records::{
    Channel, ChannelDestination, ChannelSettings, Destination, DestinationSettings, KeyPassword, KeyRight, LegRecord,
    NewSession, Sending, SessionEnd, SessionFilter, SessionRecord, SlateChoice, StreamKey, TakeRecord, TakeState,
    TurnedAway, TurnedAwayRecord, Unfinished, User,
};
pub use secrets::{KeyFileError, Keychain, Secret};
#[cfg(feature = "testing")]
pub use testing::TestDatabase;
