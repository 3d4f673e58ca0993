//! The set-up file (docs/setup.md): what a house is to be, as TOML that can be kept under version control. This crate
//! has its text with the places in it, the forms that are read from it, references to secrets, how two forms differ,
//! and where secrets are kept that it refers to; what of it can be and what follows from it is the house's.

mod differences;
mod document;
mod form;
mod kept;
mod moment;
mod path;
mod secret;
mod writing;

pub use differences::{Difference, differences, flat, without};
pub use document::{Document, Fault, MAX_TEXT, Place};
pub use form::{
    AddressForm, ChannelForm, DepotForm, DestinationForm, KeyForm, LinkForm, PersonForm, SendingForm, Setup, SrtForm,
    SystemForm, TargetForm,
};
pub use kept::kept_secrets;
pub use moment::Moment;
pub use path::{Path, Step};
pub use secret::{Reference, SecretText, file_name_of, references};
pub use writing::write;

/// The form of the file that this version reads and writes.
pub const FORM: i64 = 1;
