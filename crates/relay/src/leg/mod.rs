//! A leg: one session's delivery to one destination.

mod audio_choice;
mod history;
mod limits;
mod policy;
mod rtmp_sink;
mod state;
mod track_plan;

pub use audio_choice::{AudioChoice, AudioPick, AudioPickError, Otherwise};
pub use history::{Gap, LegHistory};
pub use limits::{Breach, Limit, LimitsSheet, LimitsWatch, OnBreach, StreamFacts};
pub use policy::LegPolicy;
pub use rtmp_sink::{RtmpSink, SinkError, SinkOutput};
pub use state::{Leg, LegState};
pub use track_plan::SinkRules;
