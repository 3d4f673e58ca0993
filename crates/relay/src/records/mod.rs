//! What is kept of a show: its begin and end, what its legs did, its takes. The record of a thing is replaced by
//! a later one of the same thing. And who did what in the house.

mod act;
mod key_use;
mod leg;
mod session;
mod take;

pub use act::{Act, ActBy, ActOutcome};
pub use key_use::KeyUse;
pub use leg::LegRecord;
pub use session::{NewSession, SessionEnd};
pub use take::{TakeMark, TakeRecord, TakeState};

use serde::{Deserialize, Serialize};

/// Something of a show that happened and is to be kept.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum ShowRecord {
    /// A session began.
    SessionBegan(NewSession),
    /// A session ended.
    SessionEnded(SessionEnd),
    /// What a leg did up to now.
    Leg(LegRecord),
    /// What the recorder knows of a take up to now.
    Take(TakeRecord),
}
