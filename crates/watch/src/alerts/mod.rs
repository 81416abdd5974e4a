//! Alerts of the blueprint in force: how they stand, and who is told.

mod notices;
mod records;
mod standings;
mod views;
mod watching;

pub use notices::deliver;
pub use records::state_name;
pub use standings::{Alerts, Quiet, run};
pub use views::notice;
