//! H.264 decoder configuration and sequence parameters.

mod decoder_config;
mod sps;

pub use decoder_config::{AvcConfigError, AvcDecoderConfig};
pub use sps::{SequenceParameters, SpsError};
