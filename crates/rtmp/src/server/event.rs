use bytes::Bytes;

use crate::capabilities::Capabilities;
use crate::challenge::CredentialsAnswer;
use crate::metadata::StreamMetadata;
use crate::timestamp::Timestamp;

/// Whether a media message carries sound or pictures.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MediaKind {
    /// An audio tag body.
    Audio,
    /// A video tag body.
    Video,
}

/// What a peer said in `connect`.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ConnectInfo {
    /// The application name.
    pub app: String,
    /// The address, if it was sent.
    pub tc_url: String,
    /// What the peer calls itself.
    pub flash_version: String,
    /// What it can do beyond the first form of RTMP.
    pub capabilities: Capabilities,
}

/// What a publisher or player asks for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StreamRequest {
    /// The number of the message stream; it goes with all calls about this stream.
    pub stream: u32,
    /// The stream name of `publish` or `play`, as it was sent.
    pub name: String,
    /// What was said in `connect`.
    pub connect: ConnectInfo,
}

/// Why a peer is sent away, in words for its operator.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Refusal {
    /// One sentence; encoders show it.
    pub description: String,
}

/// What the application must know. Each event tells the stream that it is about.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub enum ServerEvent {
    /// A client at the guarded application name names its user. Answer by
    /// [`challenge`](super::ServerConnection::challenge).
    CredentialsWanted {
        /// The user's name.
        user: String,
    },
    /// A client answers a challenge. Answer by
    /// [`accept_connect`](super::ServerConnection::accept_connect) or
    /// [`refuse_credentials`](super::ServerConnection::refuse_credentials).
    CredentialsGiven(CredentialsAnswer),
    /// A publisher asks to be let in. Answer by
    /// [`accept_publish`](super::ServerConnection::accept_publish) or
    /// [`refuse`](super::ServerConnection::refuse).
    PublishRequested(StreamRequest),
    /// A player asks for a stream. Answer by
    /// [`accept_play`](super::ServerConnection::accept_play) or
    /// [`refuse`](super::ServerConnection::refuse).
    PlayRequested(StreamRequest),
    /// The publisher described its stream.
    Metadata {
        /// The message stream.
        stream: u32,
        /// What it says.
        metadata: StreamMetadata,
    },
    /// Sound or pictures.
    Media {
        /// The message stream.
        stream: u32,
        /// Which of the two.
        kind: MediaKind,
        /// When.
        timestamp: Timestamp,
        /// The tag body.
        body: Bytes,
    },
    /// The publisher ended its stream in order.
    PublishEnded {
        /// The message stream.
        stream: u32,
    },
    /// The player wants nothing more for now.
    PlayPaused {
        /// The message stream.
        stream: u32,
    },
    /// The player wants to go on.
    PlayResumed {
        /// The message stream.
        stream: u32,
    },
    /// The player left the stream.
    PlayEnded {
        /// The message stream.
        stream: u32,
    },
}
