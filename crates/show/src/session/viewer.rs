use std::sync::Arc;
use std::sync::atomic::Ordering;

use super::Show;

/// Counts a player of a show for as long as it watches.
#[derive(Debug)]
pub struct Viewer {
    show: Arc<Show>,
}

impl Viewer {
    /// The show that is watched.
    pub fn show(&self) -> &Arc<Show> {
        &self.show
    }
}

impl Show {
    /// Counts a player from now on.
    pub fn count_viewer(self: &Arc<Self>) -> Viewer {
        self.viewer_count.fetch_add(1, Ordering::Relaxed);
        Viewer { show: self.clone() }
    }

    /// Players that watch now.
    pub fn viewer_count(&self) -> u64 {
        self.viewer_count.load(Ordering::Relaxed)
    }
}

impl Drop for Viewer {
    fn drop(&mut self) {
        self.show.viewer_count.fetch_sub(1, Ordering::Relaxed);
    }
}
