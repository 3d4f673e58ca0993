//! Who may do what in the house.

mod grants;
mod password;
mod role;
mod second_factor;

pub use grants::{Grants, Scope, Where};
pub use password::{MIN_PASSWORD, password_fault};
pub use role::{Deed, Role};
pub use second_factor::{TIME_CODE_KEY, TimeCodes, needs_second_factor};
