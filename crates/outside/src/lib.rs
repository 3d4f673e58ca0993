//! Whether the house can be reached from outside, and what keeps people out: this machine's addresses, what its name leads
//! to, the rules of its packet filter, who was at its doors, and what a helper on another machine finds there.

mod answerer;
mod asking;
mod dialing;
mod firewall;
mod judge;
mod remedies;
mod scene;
mod tries;

pub use answerer::answer;
pub use judge::judge;
pub use scene::{Door, Filter, Own, Scene, scope_of};
pub use tries::Answerer;
