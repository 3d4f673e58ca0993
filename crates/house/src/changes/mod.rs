//! What can be changed of the house, one function per change: check, write, make it hold. Whoever asks, asks here.

pub(crate) mod addresses;
pub(crate) mod asking;
pub(crate) mod call_targets;
pub(crate) mod channels;
pub(crate) mod depots;
pub(crate) mod destinations;
pub(crate) mod keys;
mod page;
mod recording;
pub(crate) mod sending;
mod slates;
mod srt;
pub(crate) mod viewing;

pub use call_targets::{DeliverySeen, ShownCall, TriedTarget};
pub use keys::MadeKey;

use crate::HouseError;

/// A text that is there, without space at its ends.
pub(crate) fn checked_text(field: &'static str, text: &str, longest: usize) -> Result<String, HouseError> {
    let length = text.trim().chars().count();
    if length == 0 || length > longest {
        return Err(HouseError::invalid(field, format!("it has {length} characters; 1 to {longest} are allowed")));
    }
    Ok(text.trim().to_owned())
}

/// A number that is not above `most`.
fn at_most(field: &'static str, value: u32, most: u32) -> Result<u32, HouseError> {
    if value > most { Err(HouseError::invalid(field, format!("{value} is more than {most}"))) } else { Ok(value) }
}
