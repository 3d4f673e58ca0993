//! What shows need of a machine, and what gives first: arithmetic for the service, which knows its machine, and for the
//! command line, which needs none.

mod costs;
mod needs;

pub use costs::Costs;
pub use needs::{Machine, Month, Needs, Plan, Prices, Resource, ResourceNeed, Verdict};
