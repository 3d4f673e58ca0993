use std::fmt;

/// Where the codes of applications begin; those below are the protocol's.
const APPLICATION_BASE: u32 = 1000;

/// What is added to a reason when it stands as handshake type (§3.2.1, table 7).
const WIRE_BASE: u32 = 1000;

/// Why a connection is refused: a code of the protocol (0 to 999, table 7), or of the
/// application (1000 and more, where 1400 to 1599 follow the status codes of HTTP).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct RejectReason(u32);

impl RejectReason {
    /// The reason is not known.
    pub const UNKNOWN: Self = Self(0);
    /// A system call failed.
    pub const SYSTEM: Self = Self(1);
    /// The peer refused.
    pub const PEER: Self = Self(2);
    /// No memory or no place left.
    pub const RESOURCE: Self = Self(3);
    /// What came is not right.
    pub const ROGUE: Self = Self(4);
    /// Too many callers wait.
    pub const BACKLOG: Self = Self(5);
    /// A fault inside the program.
    pub const INTERNAL: Self = Self(6);
    /// The listener is closing.
    pub const CLOSE: Self = Self(7);
    /// The peer is too old.
    pub const VERSION: Self = Self(8);
    /// The passphrase is wrong.
    pub const BAD_SECRET: Self = Self(10);
    /// One end asks for encryption and the other has no passphrase.
    pub const UNSECURE: Self = Self(11);
    /// One end sends messages and the other a stream.
    pub const MESSAGE_API: Self = Self(12);
    /// The ends have different congestion control.
    pub const CONGESTION: Self = Self(13);
    /// The ends have different packet filters.
    pub const FILTER: Self = Self(14);
    /// Groups are not offered, or not of this kind.
    pub const GROUP: Self = Self(15);
    /// No answer in time.
    pub const TIMEOUT: Self = Self(16);
    /// The ends have different ciphers.
    pub const CIPHER: Self = Self(17);

    /// The stream id cannot be understood.
    pub const BAD_REQUEST: Self = Self(1400);
    /// Who calls did not show that it may.
    pub const UNAUTHORIZED: Self = Self(1401);
    /// The service is at its limit.
    pub const OVERLOAD: Self = Self(1402);
    /// Who calls may not do this.
    pub const FORBIDDEN: Self = Self(1403);
    /// There is no such thing.
    pub const NOT_FOUND: Self = Self(1404);
    /// The mode is not offered for this.
    pub const BAD_MODE: Self = Self(1405);
    /// What was asked for cannot be given in this form.
    pub const UNACCEPTABLE: Self = Self(1406);
    /// Somebody else publishes there.
    pub const CONFLICT: Self = Self(1409);
    /// The service is not ready.
    pub const UNAVAILABLE: Self = Self(1503);

    /// The code.
    pub const fn code(self) -> u32 {
        self.0
    }

    /// True if the same call may be taken a little later.
    pub const fn is_passing(self) -> bool {
        matches!(
            self,
            Self::SYSTEM
                | Self::RESOURCE
                | Self::BACKLOG
                | Self::INTERNAL
                | Self::CLOSE
                | Self::TIMEOUT
                | Self::OVERLOAD
                | Self::CONFLICT
                | Self::UNAVAILABLE
        )
    }

    /// The handshake type that says so.
    pub(crate) const fn wire_code(self) -> u32 {
        self.0 + WIRE_BASE
    }

    pub(crate) fn from_wire(word: u32) -> Option<Self> {
        // Larger numbers are other handshake types.
        word.checked_sub(WIRE_BASE).filter(|code| *code < 0x1_0000).map(Self)
    }
}

impl fmt::Display for RejectReason {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let words = match *self {
            Self::SYSTEM => "a system call failed",
            Self::PEER => "the peer refused",
            Self::RESOURCE => "no place is left",
            Self::ROGUE => "the handshake is not right",
            Self::BACKLOG => "too many callers wait",
            Self::INTERNAL => "a fault inside the peer",
            Self::CLOSE => "the peer is closing",
            Self::VERSION => "the version is too old",
            Self::BAD_SECRET => "wrong passphrase",
            Self::UNSECURE => "one end has a passphrase and the other has none",
            Self::MESSAGE_API => "one end sends messages and the other a stream",
            Self::CONGESTION => "the ends differ in congestion control",
            Self::FILTER => "the ends differ in packet filters",
            Self::GROUP => "groups of connections are not taken",
            Self::TIMEOUT => "no answer in time",
            Self::CIPHER => "the ends differ in ciphers",
            Self::BAD_REQUEST => "the stream id is not understood",
            Self::UNAUTHORIZED => "the key is not known",
            Self::OVERLOAD => "the peer is at its limit",
            Self::FORBIDDEN => "not allowed",
            Self::NOT_FOUND => "there is nothing by this name",
            Self::BAD_MODE => "the mode is not offered here",
            Self::UNACCEPTABLE => "cannot be given in this form",
            Self::CONFLICT => "somebody else publishes there",
            Self::UNAVAILABLE => "the peer is not ready",
            Self(code) if code >= APPLICATION_BASE => "a reason of the peer's application",
            Self(_) => "the reason is not known",
        };
        write!(out, "{words} (code {})", self.0)
    }
}
