//! What costs a processor: pictures that stand in for a lost encoder and that a rehearsal plays, drawn and encoded
//! as H.264 in any size; and stills of recordings. A [`CodecPool`] does such work on threads of its own.

mod avc;
mod holding;
mod pool;
mod still;
mod test_picture;

pub use avc::{EncodeError, PictureFormat, encode_pictures};
pub use holding::holding_picture;
pub use pool::{CodecPool, WorkFailed};
pub use still::{Still, StillError, decode_keyframe, strip};
pub use test_picture::test_picture;

use waverant_media::{MediaTime, Packet, Tracks};

/// A clip that can be played over and over.
#[derive(Clone, Debug)]
pub struct Clip {
    /// Its tracks.
    pub tracks: Tracks,
    /// Its packets by decode time, from 0.
    pub packets: Vec<Packet>,
    /// How long it lasts.
    pub length: MediaTime,
}
