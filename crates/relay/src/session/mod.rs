//! A session: one show on a channel, from the first packet to the end.

mod assembly;
mod attendance;
mod codec_config;
mod counters;
mod intake;
mod life;
mod mended_clock;
mod program;
mod rtmp_source;
mod slate;
mod stream_source;

pub use attendance::{Attendance, Attended, Departure, NotJoined};
pub use counters::SourceCounters;
pub use intake::Intake;
pub use life::{SessionLife, SessionState};
pub use program::{Joined, Offered, OnAir, Program, SeatId, Takeover};
pub use rtmp_source::RtmpSource;
pub use slate::{Slate, SlateChoice, SlateError, SlateSource};
pub use stream_source::StreamSource;
