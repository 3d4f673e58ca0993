//! A session: one show on a channel, from the first packet to the end.

mod assembly;
mod attendance;
mod codec_config;
mod intake;
mod life;
mod program;
mod rtmp_source;
mod slate;
mod stream_source;
mod timeline;

pub use attendance::{Attendance, Attended, Departure, NotJoined};
pub use intake::{Intake, IntakeKind, SourceCounters};
pub use life::{SessionLife, SessionState};
pub use program::{Joined, Offered, OnAir, Program, SeatId, Takeover};
pub use rtmp_source::RtmpSource;
pub use slate::{Slate, SlateError};
pub use stream_source::StreamSource;
