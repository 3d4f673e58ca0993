//! MPEG transport streams (ISO/IEC 13818-1).

mod alignment;
mod clock;
mod packet;
mod pes;
mod reader;
mod section;
mod streams;
mod tables;
#[cfg(test)]
mod tests;
#[cfg(any(test, feature = "testing"))]
mod timing;
mod writer;

pub use packet::TS_NULL_PACKET;
pub use reader::{TsCounters, TsReader, Uncarried};
#[cfg(any(test, feature = "testing"))]
pub use timing::TsTimingCheck;
pub use writer::{TsWriter, is_writable};

/// Begins every packet.
const SYNC_BYTE: u8 = 0x47;
