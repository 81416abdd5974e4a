//! What changes of design and identities do to sessions.

mod bans;
pub mod design;
pub mod effects;
pub mod identities;
