/// A sample as the boxes have it, in the track's own time.
#[derive(Clone, Copy, Debug)]
pub(super) struct RawSample {
    pub(super) decode_time: i64,
    pub(super) duration: u32,
    pub(super) offset: i32,
    pub(super) sync: bool,
    pub(super) at: u64,
    pub(super) size: u32,
}
