use std::collections::VecDeque;
use std::sync::Arc;

use parking_lot::Mutex;
use waverant_container::Layout;

/// Layouts that are remembered: a player asks for many ranges of one file.
const MAX_LAYOUTS: usize = 16;

/// The layouts that were asked for last.
#[derive(Debug, Default)]
pub(crate) struct Layouts {
    known: Mutex<VecDeque<(String, Arc<Layout>)>>,
}

impl Layouts {
    pub(crate) fn find(&self, tag: &str) -> Option<Arc<Layout>> {
        self.known.lock().iter().find(|(known, _)| known == tag).map(|(_, layout)| layout.clone())
    }

    pub(crate) fn remember(&self, tag: String, layout: Arc<Layout>) {
        let mut known = self.known.lock();
        if known.len() >= MAX_LAYOUTS {
            known.pop_front();
        }
        known.push_back((tag, layout));
    }
}
