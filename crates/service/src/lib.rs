//! The Waverant service: its settings, the check of the machine, its start and its stop. What it does is in the
//! crates below.

mod addresses;
mod check;
mod doors;
mod logging;
mod machine;
mod service;
mod settings;
mod start;
mod viewing_runtime;

pub use addresses::Addresses;
pub use check::{Finding, check_machine};
pub use logging::start_logging;
pub use machine::make_files_private;
pub use service::Service;
pub use settings::{Settings, SettingsError};
pub use start::StartError;
pub use waverant_api::openapi_document;
