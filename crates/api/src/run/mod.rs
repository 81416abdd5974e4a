//! Who runs the broker, and what was changed.

pub mod audit;
pub mod people;
