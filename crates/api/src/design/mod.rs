//! The design, and what it would do.

pub mod explain;
pub mod matrix;
pub mod revisions;
pub mod trial;
