//! What changes of design and identities do to sessions.

pub mod design;
pub mod effects;
pub mod identities;
