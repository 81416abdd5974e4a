//! The commands: what they ask a service or a standard broker for, and how they show it.

pub mod arguments;
pub mod commands;
pub mod desk;
mod envelope;
mod local;
mod messaging;
pub mod output;
mod payload;
mod remotes;
pub mod stop;
mod view;
pub mod watch;
