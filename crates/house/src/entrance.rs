use std::sync::Arc;

use waverant_relay::{Admission, Asked, Grant, KeyRight};
use waverant_show::{Stay, Steering};

/// Somebody who may come in.
#[derive(Clone, Debug, PartialEq)]
pub struct Entrance {
    /// What opened, and into what.
    pub admission: Admission,
    /// What another system was asked, if one was.
    pub asked: Option<Arc<Asked>>,
}

/// How long somebody may stay who was asked about.
pub(crate) fn stay_of(asked: &Asked) -> Arc<Stay> {
    Stay::new(asked.grant.as_ref().and_then(|grant| grant.until))
}

/// How the session is steered that somebody begins who was asked about.
pub(crate) fn steering_of(asked: &Asked) -> Steering {
    let grant = asked.grant.as_ref().filter(|_| asked.question.right == KeyRight::Publish);
    let steered = |grant: &Grant| Steering { destinations: grant.destinations.clone(), recording: grant.recording };
    grant.map(steered).unwrap_or_default()
}
