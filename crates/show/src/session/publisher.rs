use std::net::SocketAddr;
use std::sync::Arc;

use waverant_relay::{Admission, KeyHold, Opener};

use super::Stay;

/// Who publishes into a session.
#[derive(Clone, Debug)]
pub struct Publisher {
    /// What let it in.
    pub opener: Opener,
    /// The key by which it came in; none if the house let it in.
    pub hold: Option<KeyHold>,
    /// How long it may stay, if another system of the house said something about that.
    pub stay: Option<Arc<Stay>>,
    /// True if its key is for one encoder at a time.
    pub is_alone: bool,
    /// 0 is the highest; one of lower rank is a backup.
    pub rank: u8,
    /// Label of its key.
    pub key_label: String,
    /// Where it is.
    pub peer: SocketAddr,
    /// What it calls itself.
    pub encoder: String,
    /// What was odd about its coming in, and harmless.
    pub finding: Option<String>,
}

impl Publisher {
    /// One that was let in by its key.
    pub fn new(admission: &Admission, peer: SocketAddr, encoder: String) -> Self {
        Self {
            opener: admission.opener,
            hold: admission.hold,
            stay: None,
            is_alone: admission.most_connections == Some(1),
            rank: admission.key_rank,
            key_label: admission.key_label.clone(),
            peer,
            encoder,
            finding: admission.finding.clone(),
        }
    }
}
