//! What costs a processor: pictures that stand in for a lost encoder and that a rehearsal plays, drawn and encoded
//! as H.264 in any size; stills of recordings; and pictures and sound that are
//! looked at to judge a show. A [`CodecPool`] does such work on threads of its own.

mod avc;
mod glance;
mod holding;
mod pool;
mod sound;
mod still;
mod test_picture;

pub use avc::{EncodeError, PictureFormat, encode_pictures};
pub use glance::{GLANCE_POINTS, Glance, glance};
pub use holding::holding_picture;
pub use pool::{CodecPool, WorkFailed};
pub use sound::{NotDecoded, SoundDecoder};
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
