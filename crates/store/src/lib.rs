//! The records of the house in MariaDB, secrets at rest, and the private database server.
//!
//! SQL stays inside this crate. Times are UTC.

mod database;
mod error;
mod records;
mod secrets;
#[cfg(feature = "testing")]
mod testing;

pub use database::{PrivateServer, PrivateServerError, Store, examine_database};
pub use error::StoreError;
pub use records::{
    Channel, ChannelDestination, ChannelSettings, CopyRecord, CopyState, CopyUpload, Depot, Destination,
    DestinationSettings, KeyPassword, KeyRight, LegRecord, NewSession, NewStreamKey, RecordingChoice,
    RecordingSettings, Sending, SessionEnd, SessionFilter, SessionRecord, SlateChoice, SrtTerms, StoredTake, StreamKey,
    TakeCard, TakeChange, TakeFilter, TakeMark, TakeRecord, TakeState, TokenRecord, TurnedAway, TurnedAwayRecord,
    Unfinished, User,
};
pub use secrets::{KeyFileError, Keychain, Secret};
#[cfg(feature = "testing")]
pub use testing::TestDatabase;
