//! A leg: one session's delivery to one destination.

mod policy;
mod rtmp_sink;
mod state;

pub use policy::LegPolicy;
pub use rtmp_sink::{RtmpSink, SinkOutput};
pub use state::{Leg, LegState};
