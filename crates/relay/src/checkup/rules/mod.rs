//! What is looked for. Each rule sees figures and says what is so at this moment; how long it has to last is not its
//! matter.

mod house;
mod legs;
mod line;
mod senses;
mod stream;
pub(super) mod thresholds;

#[cfg(test)]
mod tests;

pub use house::{CertificateLeft, HouseFacts, judge_house};
pub use legs::{LegFacts, judge_leg};
pub use line::judge_line;
pub use senses::{judge_picture, judge_sound};
pub use stream::{IntakeFacts, judge_stream};
