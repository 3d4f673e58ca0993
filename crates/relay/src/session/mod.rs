//! A session: one show on a channel, from the first packet to the end.

mod codec_config;
mod life;
mod program;
mod rtmp_source;
mod slate;
mod timeline;

pub use life::{SessionLife, SessionState};
pub use program::{Joined, Offered, OnAir, Program, SeatId, Takeover};
pub use rtmp_source::{RtmpSource, SourceCounters};
pub use slate::{Slate, SlateError};
