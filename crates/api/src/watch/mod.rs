//! What goes on.

pub mod alerts;
pub mod busiest;
pub mod draft_lines;
pub mod drift;
pub mod events;
pub mod exposition;
pub mod filter_match;
pub mod health;
pub mod history;
pub mod inbox;
mod ladder_packet;
pub mod ladders;
pub mod owners;
pub mod readings;
pub mod recordings;
pub mod rehearsal;
pub mod retained;
mod session_list;
mod session_view;
pub mod sessions;
pub mod silences;
pub mod status;
pub mod subscribers;
pub mod topic;
pub mod topics;
pub mod warnings;
