use serde::{Deserialize, Serialize};
use thiserror::Error;

/// The work broke off: by a fault of ours, or by what it was done on.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error, Serialize, Deserialize)]
#[error("the work on a picture or on sound broke off")]
pub struct WorkFailed;
