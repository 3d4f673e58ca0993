//! The Waverant service: its settings, the check of the machine, its start and its stop. What it does is in the
//! crates below.

mod addresses;
mod archive;
mod before_migrations;
mod by_hand;
mod check;
mod doors;
mod first_boot;
mod healthy;
mod helpers;
mod logging;
mod machine;
mod outside;
mod service;
mod settings;
mod start;
mod state_lock;
mod supervision;
mod viewing_runtime;

pub use addresses::Addresses;
pub use by_hand::{BackedUp, LetIn, Rekeyed, Restored, backup, let_in, rekey, restore};
pub use check::{Finding, check_machine};
pub use healthy::ask_health;
pub use helpers::HELPER;
pub use logging::{start_logging, start_plain_log};
pub use machine::{leave_no_core_file, make_files_private};
pub use outside::{answer_houses, check_outside};
pub use service::Service;
pub use settings::{AnnouncedDoor, Settings, SettingsError};
pub use start::StartError;
pub use waverant_api::openapi_document;
