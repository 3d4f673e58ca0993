//! What the parts of a show get, and nothing more: not the show, not the house.

use std::fmt::Debug;
use std::sync::Arc;
use std::time::Instant;

use waverant_relay::{ChannelName, ShowNews, ShowRecord, SpreadMeter};
use waverant_rtmp::StreamRates;

use crate::events::Events;
use crate::feed::Feeds;

/// Where what happens is written down. Callers never wait, and nothing is dropped.
pub trait Ledger: Debug + Send + Sync {
    /// Keeps something of a show; it replaces an earlier record of the same thing.
    fn write(&self, record: ShowRecord);

    /// Tells others what happened in a session and stands in no record.
    fn tell(&self, session: u64, news: ShowNews);
}

/// Who knows the rates of the incoming stream: as they were announced, else as they were measured.
pub trait Rates: Debug + Send + Sync {
    /// The rates now.
    fn rates(&self) -> StreamRates;
}

/// What those get who read a show: legs, the recorder, viewers.
#[derive(Clone, Debug)]
pub struct ShowContext {
    /// The session's number.
    pub id: u64,
    /// The channel's name, for the log.
    pub channel: ChannelName,
    /// When it began.
    pub began: Instant,
    /// Its packets.
    pub feeds: Arc<Feeds>,
    /// Its rates.
    pub rates: Arc<dyn Rates>,
    /// Where what happens is written down.
    pub ledger: Arc<dyn Ledger>,
    /// What belongs into the report.
    pub events: Arc<Events>,
    /// How far legs are behind, of all shows.
    pub lags: Arc<SpreadMeter>,
}
