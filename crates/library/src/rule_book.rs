use std::fmt::Debug;
use std::sync::Arc;

use waverant_relay::ChannelRules;
use waverant_store::StoredTake;

/// What the library asks of the house, and tells it.
pub trait RuleBook: Debug + Send + Sync {
    /// The rules of all channels as they are now.
    fn channels(&self) -> Vec<Arc<ChannelRules>>;

    /// What is being recorded now, in bits per second, all sessions together.
    fn recording_bps(&self) -> f64;

    /// Hears that a take was copied to a depot, or why it was not yet.
    fn take_copied(&self, take: &StoredTake, depot: &str, outcome: Result<(), &str>);
}
