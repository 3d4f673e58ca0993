use std::fmt;
use std::future::Future;
use std::net::SocketAddr;
use std::pin::Pin;

use waverant_relay::{Admission, KeyRight, TurnAway, TurnAwayReason};

/// What a judge is asked: somebody whose key is right wants to come in.
#[derive(Clone, Debug)]
pub struct Question {
    /// What the key says.
    pub admission: Admission,
    /// Where it comes from.
    pub peer: SocketAddr,
    /// What it wants to do.
    pub right: KeyRight,
}

/// What a judge promises: none if it may come in, or why not.
pub type Judgement = Pin<Box<dyn Future<Output = Option<TurnAwayReason>> + Send>>;

/// Another system that is asked before somebody is let in whose key is right.
pub trait Judge: fmt::Debug + Send + Sync {
    /// Decides. Dropping the future gives up.
    fn judge(&self, question: Question) -> Judgement;
}

/// An admission that is not decided yet. Dropping it gives up.
pub type Deciding = Pin<Box<dyn Future<Output = Result<Admission, TurnAway>> + Send>>;

/// What asking to come in leads to.
pub enum Verdict {
    /// It is decided.
    Now(Result<Admission, TurnAway>),
    /// It will be; nobody else waits for it.
    Later(Deciding),
}

impl fmt::Debug for Verdict {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Now(decided) => out.debug_tuple("Now").field(decided).finish(),
            Self::Later(_) => out.write_str("Later(…)"),
        }
    }
}
