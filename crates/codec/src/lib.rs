//! What costs a processor: pictures that stand in for a lost encoder and that a rehearsal plays, drawn and encoded
//! as H.264 in any size; stills of recordings; and pictures and sound that are
//! looked at to judge a show. A [`CodecPool`] does such work on threads of its own, and has what is native code done by
//! helpers, in processes that can do nothing else.

mod avc;
mod glance;
mod helper;
mod holding;
mod pool;
mod sound;
mod still;
mod test_picture;
mod work_failed;

pub use avc::{EncodeError, PictureFormat, encode_pictures};
pub use glance::{GLANCE_POINTS, Glance};
pub use helper::{Hand, NotConfined, Workplace, confine, serve};
pub use pool::CodecPool;
pub use sound::SoundPiece;
pub use still::{Still, StillError, strip};
pub use work_failed::WorkFailed;

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
