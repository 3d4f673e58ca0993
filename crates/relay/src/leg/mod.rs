//! A leg: one session's delivery to one destination.

mod address;
mod audio_choice;
mod flv_output;
mod history;
mod limits;
mod mask;
mod order;
mod peer_clock;
mod phase;
mod policy;
mod rtmp_sink;
mod silent_sound;
mod state;
mod track_plan;
mod ts_sink;

pub use address::{LegAddress, LegAddressError};
pub use audio_choice::{AudioChoice, AudioPick, AudioPickError, Otherwise};
pub use flv_output::FlvOutput;
pub use history::{Gap, LegHistory};
pub use limits::{Breach, Limit, LimitsSheet, MissingSound, OnBreach, StreamFacts};
pub use mask::Mask;
pub use order::{LegDestination, LegOrder};
pub use phase::LegPhase;
pub use policy::LegPolicy;
pub use rtmp_sink::{RtmpSink, SinkError, SinkOutput};
pub use state::{Leg, LegState};
pub use track_plan::SinkRules;
pub use ts_sink::TsSink;
