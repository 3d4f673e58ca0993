use std::collections::HashMap;
use std::sync::Arc;

use waverant_media::TrackId;

/// Texts that are made once for all who ask before something changes.
#[derive(Debug, Default)]
pub(super) struct Texts {
    version: u64,
    made: HashMap<(TrackId, bool), Option<Arc<str>>>,
}

impl Texts {
    /// The text as of `version`, made by `make` if nobody asked for it before.
    pub(super) fn get(
        &mut self,
        key: (TrackId, bool),
        version: u64,
        make: impl FnOnce() -> Option<String>,
    ) -> Option<Arc<str>> {
        if self.version != version {
            self.made.clear();
            self.version = version;
        }
        self.made.entry(key).or_insert_with(|| make().map(Into::into)).clone()
    }
}
