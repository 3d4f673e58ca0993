//! A leg: one session's delivery to one destination.

mod policy;
mod rtmp_sink;
mod state;
mod track_plan;

pub use policy::LegPolicy;
pub use rtmp_sink::{RtmpSink, SinkError, SinkOutput};
pub use state::{Leg, LegState};
