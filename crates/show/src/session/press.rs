use std::sync::{Arc, Weak};

use parking_lot::Mutex;
use waverant_relay::PicturePress;

use super::Show;

/// What makes pieces for viewers of pictures, while there are some.
#[derive(Debug, Default)]
pub(super) struct Press(Mutex<Weak<Mutex<PicturePress>>>);

impl Show {
    /// What makes pieces of one picture each, one for all who take them. Held for moments only.
    pub fn press(&self) -> Arc<Mutex<PicturePress>> {
        let mut press = self.press.0.lock();
        press.upgrade().unwrap_or_else(|| {
            let made = Arc::default();
            *press = Arc::downgrade(&made);
            made
        })
    }
}
