//! What goes on.

pub mod draft_lines;
pub mod drift;
pub mod filter_match;
pub mod readings;
pub mod recordings;
pub mod retained;
pub mod sessions;
pub mod silences;
pub mod status;
pub mod throughput;
pub mod topic;
pub mod topics;
pub mod warnings;
