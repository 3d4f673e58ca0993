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

/// A caller that may come in if it knows the passphrase.
#[derive(Debug)]
pub struct Welcome<P> {
    /// How its connection behaves; the passphrase in it is checked.
    pub config: Config,
    /// What the application wants to know of it then.
    pub pass: P,
}

/// What a decision that takes a while comes to, or why the caller may not come in.
pub type Deciding<P> = Pin<Box<dyn Future<Output = Result<Welcome<P>, RejectReason>> + Send>>;

/// Whether a caller may come in.
pub enum Decision<P> {
    /// It is decided.
    Now(Result<Welcome<P>, RejectReason>),
    /// It will be: the caller waits, and nobody else does. A caller that gives up is forgotten with its decision.
    Later(Deciding<P>),
}

impl<P> fmt::Debug for Decision<P> {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Now(decided) => out.debug_tuple("Now").field(&decided.is_ok()).finish(),
            Self::Later(_) => out.write_str("Later(…)"),
        }
    }
}

/// The application behind a socket. Its calls must not block: all connections wait meanwhile.
pub trait Doorkeeper {
    /// What the application keeps of a connection.
    type Guest;

    /// What it keeps of a caller between its being judged and its being let in.
    type Pass: Send + 'static;

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
    fn judge(&mut self, request: &Request) -> Decision<Self::Pass>;

    /// Lets a caller in of whom that was decided, and whose passphrase was right.
    ///
    /// # Errors
    /// Why that cannot be after all; it is told so.
    fn admit(&mut self, request: &Request, pass: Self::Pass) -> Result<Self::Guest, RejectReason>;

    /// A caller that [`judge`](Self::judge) would have let in has not the right passphrase.
    fn refused(&mut self, request: &Request, pass: Self::Pass, reason: RejectReason);

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
