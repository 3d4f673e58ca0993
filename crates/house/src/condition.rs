//! What is known of the house apart from its shows.

use std::sync::atomic::AtomicBool;

use parking_lot::{Mutex, RwLock};
use waverant_relay::Checkup;

use crate::host::HostFigures;

/// What is known of the house apart from its shows.
#[derive(Debug)]
pub(crate) struct HouseCondition {
    pub(crate) checkup: Mutex<Checkup>,
    /// None until the machine was looked at.
    pub(crate) host: RwLock<Option<HostFigures>>,
    /// True if the database answered when it was last asked.
    pub(crate) database_answers: AtomicBool,
}

impl Default for HouseCondition {
    fn default() -> Self {
        // It answered when the house was opened.
        Self { checkup: Mutex::default(), host: RwLock::default(), database_answers: AtomicBool::new(true) }
    }
}
