//! The outside world, played by ourselves: an encoder that publishes a clip, a platform that
//! takes streams, and the comparison of what one sent with what the other got.

mod clip;
mod compare;
mod encoder;
mod marks;
mod platform;
mod take;

pub use clip::Clip;
pub use compare::{Comparison, compare, first_difference};
pub use encoder::{Encoder, EncoderEnd, EncoderFault, EncoderOptions, EncoderReport};
pub use marks::{Mark, MarkKind};
pub use platform::{ConnectionReport, Platform, PlatformFault, PlatformOptions, PlatformReport};
pub use take::read_take;
