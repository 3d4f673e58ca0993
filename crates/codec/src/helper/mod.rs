//! Native code in a process of its own: what it decodes comes from strangers, and a fault there must cost no show.
//!
//! A thread of the pool has a [`Hand`](hand::Hand). The hand sends tasks over a pair of sockets to the same program,
//! begun anew as a helper ([`serve`]), that can neither open files nor connections, and reads what came of them. Tasks
//! stand alone, so a helper that died costs the task it was at, and the next one begins another.

mod crafts;
mod hand;
mod sandbox;
mod serve;
mod wire;

pub use hand::{Hand, Workplace};
pub use sandbox::{NotConfined, confine};
pub use serve::serve;
