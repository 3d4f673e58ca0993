use std::fmt;
use std::future::Future;
use std::net::{IpAddr, SocketAddr};
use std::pin::Pin;
use std::time::Instant;

use waverant_srt::{CloseReason, Config, Connection, Message, RejectReason, Request, Statistics};

/// A caller that the protocol itself refused.
#[derive(Debug)]
pub struct Turned {
    /// Where it comes from.
    pub from: SocketAddr,
    /// Why.
    pub reason: RejectReason,
    /// What was wrong, in words, if there is more to say than the reason.
    pub detail: Option<String>,
}

/// Whether a connection goes on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Onward {
    /// It does.
    GoesOn,
    /// It is to be closed.
    Ends,
}

/// What a decision that takes a while comes to: why the caller may not come in, if so.
pub type Deciding = Pin<Box<dyn Future<Output = Result<(), RejectReason>> + Send>>;

/// Whether a caller may come in.
pub enum Decision {
    /// It is decided.
    Now(Result<(), RejectReason>),
    /// It will be: the caller waits, and nobody else does. A caller that gives up is forgotten with its decision.
    Later(Deciding),
}

impl fmt::Debug for Decision {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Now(decided) => out.debug_tuple("Now").field(decided).finish(),
            Self::Later(_) => out.write_str("Later(…)"),
        }
    }
}

/// The application behind a socket. Its calls must not block: all connections wait meanwhile.
pub trait Doorkeeper {
    /// What the application keeps of a connection.
    type Guest;

    /// What callers of this address are worth, from 0 to 3, when there is more to do than time: 3 are
    /// those who are known.
    fn rank(&self, _address: IpAddr) -> u8 {
        2
    }

    /// What callers are told apart by: a network may count as one.
    fn caller_of(&self, address: IpAddr) -> IpAddr {
        address
    }

    /// Decides whether a caller may be let in, and how its connection behaves then; the
    /// passphrase in the answer is checked behind it.
    ///
    /// # Errors
    /// Why it may not; it is told so.
    fn judge(&mut self, request: &Request) -> Result<Config, RejectReason>;

    /// Decides, once more, whether a caller may be let in whose key and passphrase were right: what takes a while.
    fn decide(&mut self, _request: &Request) -> Decision {
        Decision::Now(Ok(()))
    }

    /// Lets a caller in of whom that was decided.
    ///
    /// # Errors
    /// Why that cannot be after all; it is told so.
    fn admit(&mut self, request: &Request) -> Result<Self::Guest, RejectReason>;

    /// A caller that [`judge`](Self::judge) would have let in has not the right passphrase.
    fn refused(&mut self, request: &Request, reason: RejectReason);

    /// A caller was refused before [`judge`](Self::judge) was asked.
    fn turned_away(&mut self, turned: Turned);

    /// A message came, and it is time for it.
    fn message(&mut self, guest: &mut Self::Guest, message: Message<'_>);

    /// Called every few milliseconds: gives what is to be sent, and says whether to go on.
    fn serve(&mut self, guest: &mut Self::Guest, connection: &mut Connection, now: Instant) -> Onward;

    /// Figures of a connection, twice a second.
    fn figures(&mut self, guest: &mut Self::Guest, statistics: &Statistics);

    /// A connection is over.
    fn closed(&mut self, guest: Self::Guest, reason: CloseReason);
}
