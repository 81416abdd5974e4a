//! What reaches out of the service.

mod bridge_view;
pub mod bridges;
mod preview;
