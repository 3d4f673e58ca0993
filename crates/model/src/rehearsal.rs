//! Rehearsals.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A rehearsal to be held.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BeginRehearsal {
    /// How long; 1 to 3600, default 20.
    pub seconds: Option<u32>,
    /// Destinations that it is really sent to; none for the built-in sink only.
    #[serde(default)]
    pub destinations: Vec<String>,
}

/// A rehearsal that has begun.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Rehearsal {
    /// Its session.
    pub session: u64,
    /// How long it lasts.
    pub seconds: u32,
}
