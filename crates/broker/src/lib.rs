//! Carries messages: who comes, who they are, what they may, their sessions, and what waits for them.

pub mod attach;
pub mod bans;
pub mod broker;
pub mod changes;
pub mod clock;
pub mod common;
pub mod connection;
pub mod design;
pub mod housekeeping;
pub mod identity;
pub mod judge;
pub mod listeners;
pub mod notes;
pub mod random;
pub mod sessions;
