//! What the drivers of all protocols share.

mod write_queue;

pub(crate) use write_queue::WriteQueue;
