//! HEVC decoder configuration and sequence parameters.

mod colour;
mod decoder_config;
mod sps;

pub use decoder_config::HevcDecoderConfig;
pub use sps::HevcSequence;
