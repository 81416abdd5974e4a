//! Looks on: what the broker carries, read once a second, kept and passed on. Writes nothing into the broker.

pub mod alerts;
pub mod event_log;
pub mod history;
mod process;
mod readings;
pub mod sampler;
mod slow;
pub mod topics;
