//! The records of the house in MariaDB, secrets at rest, and the private database server.
//!
//! SQL stays inside this crate. Times are UTC.

mod database;
mod error;
mod records;
mod secrets;
#[cfg(feature = "testing")]
mod testing;

pub use database::{
    CopyingError, PrivateServer, PrivateServerError, Store, examine_database, other_schema, read_records, write_records,
};
pub use error::StoreError;
pub use records::{
    ActFilter, ActRecord, CONSOLE, Channel, ChannelDestination, ChannelSettings, CopyRecord, CopyState, CopyUpload,
    Delivery, DeliveryFilter, DeliveryState, DeliveryTry, Depot, Destination, DestinationSettings, FigureBlock,
    GuestLink, KeyPassword, KeyRenewal, KeyTerms, MACHINE, MadeStreamKey, NewPasskey, NewStreamKey, NewToken,
    NewViewingLink, Passkey, Person, ReachedDoor, RecordingSettings, SecondFactor, Sending, SessionFilter,
    SessionRecord, SetupWriter, SrtTerms, StoredTake, StreamKey, TakeCard, TakeChange, TakeFilter, TokenHolder,
    TokenRecord, TokenUse, Unfinished, User, ViewerMinute, WaitingCount, WaitingLane, written_now,
};
pub use secrets::{KeyFileError, Keychain, Turn, new_call_id, new_one_time_code, new_passphrase, new_salt};
#[cfg(feature = "testing")]
pub use testing::TestDatabase;
