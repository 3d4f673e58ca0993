//! H.264 decoder configuration, sequence parameters and heads of slices.

mod decoder_config;
mod slice;
mod sps;

pub use decoder_config::{AvcConfigError, AvcDecoderConfig};
pub use slice::{Field, SliceHead};
pub use sps::{SequenceParameters, SpsError};
