//! The Waverant service: listeners for publishers, sessions with their legs and recorder, the
//! HTTP API, and the console.

mod api;
mod check;
mod house;
mod ingest;
mod leg;
mod library;
mod logging;
mod machine;
mod recorder;
mod rehearsal;
mod service;
mod settings;
mod show;

pub use api::openapi_document;
pub use check::{Finding, check_machine};
pub use logging::start_logging;
pub use machine::make_files_private;
pub use service::{Addresses, Service, StartError};
pub use settings::{Settings, SettingsError};
