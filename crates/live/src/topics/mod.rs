//! The live topic hierarchy.

pub mod gathered;
pub mod hierarchy;
pub mod last_value;
pub mod node;
pub mod search;
