//! The rules of the house, without sockets, files or clocks: who may come in, how a session
//! lives, how packets are handed to many readers, how a leg behaves.

mod gate;
mod hub;
mod leg;
mod meter;
mod session;
mod take;

pub use gate::{
    Admission, Attempt, ChannelEntry, ChannelName, ChannelNameError, Gate, KeyDigest, KeyEntry, KeyRight, TurnAway,
    TurnAwayReason, split_key,
};
pub use hub::{Cursor, Entry, Hub, HubLimits, Read};
pub use leg::{Leg, LegPolicy, LegState, RtmpSink, SinkError, SinkOutput};
pub use meter::RateMeter;
pub use session::{RtmpSource, SessionLife, SessionState, SourceCounters};
pub use take::take_path;
