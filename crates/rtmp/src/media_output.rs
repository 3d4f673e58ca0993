use bytes::Bytes;

use crate::capabilities::Capabilities;
use crate::error::Error;
use crate::timestamp::Timestamp;

/// The way to whoever takes a stream from us: a server that we publish to, or a player.
///
/// Payloads are not copied.
pub trait MediaOutput {
    /// What the peer can do beyond the first form of RTMP.
    fn capabilities(&self) -> &Capabilities;

    /// True if the peer plays; metadata is then sent without the instruction to keep it.
    fn is_player(&self) -> bool;

    /// Sends a data message, such as metadata.
    ///
    /// # Errors
    /// [`Error::Misuse`] if the peer has not taken our stream.
    fn send_data(&mut self, timestamp: Timestamp, payload: &Bytes) -> Result<(), Error>;

    /// Sends a video tag body: `header` followed by `payload`.
    ///
    /// # Errors
    /// [`Error::Misuse`] if the peer has not taken our stream.
    fn send_video(&mut self, timestamp: Timestamp, header: &[u8], payload: &Bytes) -> Result<(), Error>;

    /// Sends an audio tag body: `header` followed by `payload`.
    ///
    /// # Errors
    /// [`Error::Misuse`] if the peer has not taken our stream.
    fn send_audio(&mut self, timestamp: Timestamp, header: &[u8], payload: &Bytes) -> Result<(), Error>;
}
