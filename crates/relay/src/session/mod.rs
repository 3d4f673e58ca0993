//! A session: one show on a channel, from the first packet to the end.

mod codec_config;
mod life;
mod rtmp_source;
mod timeline;

pub use life::{SessionLife, SessionState};
pub use rtmp_source::{RtmpSource, SourceCounters};
