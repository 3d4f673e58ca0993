use std::collections::HashMap;
use std::io::Write;
use std::sync::{Arc, OnceLock};

use bytes::Bytes;
use flate2::Compression;
use flate2::write::GzEncoder;
use waverant_media::TrackId;

/// A playlist as it is sent.
#[derive(Debug)]
pub struct Told {
    /// What tells this version from any other.
    pub tag: String,
    /// As it is read.
    pub plain: Bytes,
    packed: OnceLock<Bytes>,
}

impl Told {
    fn new(tag: String, text: String) -> Self {
        Self { tag, plain: text.into(), packed: OnceLock::new() }
    }

    /// The same, compressed (RFC 1952): once, whoever asks.
    pub fn packed(&self) -> Bytes {
        let pack = || {
            let mut encoder = GzEncoder::new(Vec::new(), Compression::fast());
            // Into memory it cannot fail; an empty answer would be seen.
            encoder.write_all(&self.plain).and_then(|()| encoder.finish()).unwrap_or_default().into()
        };
        self.packed.get_or_init(pack).clone()
    }
}

/// Texts that are made once for all who ask before something changes.
#[derive(Debug, Default)]
pub(super) struct Texts {
    version: u64,
    made: HashMap<(TrackId, bool), Option<Arc<Told>>>,
}

impl Texts {
    /// The text as of `version` of a `run`, made by `make` if nobody asked for it before.
    pub(super) fn get(
        &mut self,
        (track, skips): (TrackId, bool),
        (run, version): (u64, u64),
        make: impl FnOnce() -> Option<String>,
    ) -> Option<Arc<Told>> {
        if self.version != version {
            self.made.clear();
            self.version = version;
        }
        let tag = || format!("{run}-{}-{version}{}", track.0, if skips { "-delta" } else { "" });
        self.made.entry((track, skips)).or_insert_with(|| make().map(|text| Arc::new(Told::new(tag(), text)))).clone()
    }
}
