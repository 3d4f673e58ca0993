//! MPEG transport streams (ISO/IEC 13818-1).

mod alignment;
mod packet;
mod pes;
mod reader;
mod section;
mod streams;
mod tables;
#[cfg(test)]
mod tests;
mod writer;

pub use reader::{TsCounters, TsReader, Uncarried};
pub use writer::{TsWriter, is_writable};

/// Begins every packet.
const SYNC_BYTE: u8 = 0x47;
