//! One file per kind of record: the type and its queries.

mod acts;
mod address_rules;
mod call_targets;
mod channels;
mod deliveries;
mod depots;
mod destinations;
mod figures;
mod house_systems;
mod keys;
mod numbers;
mod passkeys;
mod people;
mod reached_doors;
mod recording;
mod rekey;
mod second_factors;
mod sessions;
mod setup;
mod takes;
mod takes_due;
mod tokens;
mod turned_away;
mod users;
mod versions;
mod viewer_minutes;
mod viewing;
mod viewing_links;

use sqlx::mysql::MySqlRow;
use sqlx::{MySql, QueryBuilder, Row};
use time::{OffsetDateTime, PrimitiveDateTime, UtcOffset};

pub use acts::{ActFilter, ActRecord};
pub use channels::{Channel, ChannelSettings, SrtTerms};
pub use deliveries::{Delivery, DeliveryFilter, DeliveryState, DeliveryTry, WaitingCount, WaitingLane};
pub use depots::{CopyRecord, CopyState, CopyUpload, Depot};
pub use destinations::{ChannelDestination, Destination, DestinationSettings, Sending};
pub use figures::{FigureBlock, MACHINE};
pub use keys::{GuestLink, KeyPassword, KeyRenewal, KeyTerms, MadeStreamKey, NewStreamKey, StreamKey};
pub use passkeys::{NewPasskey, Passkey};
pub use people::Person;
pub use reached_doors::ReachedDoor;
pub use recording::RecordingSettings;
pub use second_factors::SecondFactor;
pub use sessions::{SessionFilter, SessionRecord, Unfinished};
pub use setup::SetupWriter;
pub use takes::{StoredTake, TakeCard, TakeChange, TakeFilter};
pub use tokens::{CONSOLE, NewToken, TokenHolder, TokenRecord, TokenUse};
pub use users::User;
pub use viewer_minutes::ViewerMinute;
pub use viewing_links::NewViewingLink;

/// A column of UTC time.
fn time_in(row: &MySqlRow, column: &str) -> Result<OffsetDateTime, sqlx::Error> {
    row.try_get::<PrimitiveDateTime, _>(column).map(PrimitiveDateTime::assume_utc)
}

/// A column of UTC time that may be empty.
fn optional_time_in(row: &MySqlRow, column: &str) -> Result<Option<OffsetDateTime>, sqlx::Error> {
    Ok(row.try_get::<Option<PrimitiveDateTime>, _>(column)?.map(PrimitiveDateTime::assume_utc))
}

/// By which of two accounts of the same thing the newer one is known: it rises, over restarts too.
pub fn written_now() -> u64 {
    u64::try_from(OffsetDateTime::now_utc().unix_timestamp_nanos() / 1000).unwrap_or_default()
}

/// A time as it is written into a column.
fn to_column(time: OffsetDateTime) -> PrimitiveDateTime {
    let utc = time.to_offset(UtcOffset::UTC);
    PrimitiveDateTime::new(utc.date(), utc.time())
}

/// Question marks for so many values of a list; a list of none matches nothing.
fn places(count: usize) -> String {
    if count == 0 { "NULL".to_owned() } else { vec!["?"; count].join(", ") }
}

/// Numbers in brackets; a list of none matches nothing.
fn push_list(query: &mut QueryBuilder<MySql>, numbers: &[u64]) {
    query.push("(NULL");
    for number in numbers {
        query.push(", ").push_bind(*number);
    }
    query.push(")");
}

/// What a row becomes that is there already: what is newer by `written`, which stands last, else what it was. A statement
/// that was given up may be done after the one that took its place.
fn updates_in_order(columns: &[&str]) -> String {
    let update = |column: &&str| format!("{column} = IF(VALUE(written) >= written, VALUE({column}), {column})");
    columns.iter().map(update).collect::<Vec<_>>().join(", ")
}

/// Cuts text to what a column holds.
fn fitted(text: &str, length: usize) -> String {
    text.chars().take(length).collect()
}
