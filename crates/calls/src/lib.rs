//! Calls to other systems of the house over HTTP, and mail: where calls may lead, how they are signed, and how much is read of what
//! comes back.

mod address;
mod client;
mod mail;
mod reachable;
mod signing;
mod template;

pub use address::{CallAddress, CallAddressError};
pub use client::{Call, CallClient, CallFault, Reply};
pub use mail::{MailFault, MailSecurity, MailServer, Postbox, check_mailbox, check_sender};
pub use reachable::Reachable;
pub use signing::{SigningSecret, SigningSecretError};
pub use template::{CONTENT_TYPES, TemplateError, TemplateFacts, fill_in};
