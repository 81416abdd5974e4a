//! What reaches out of the service.

mod bridge_view;
pub mod bridges;
pub mod demo_link;
pub mod derived;
mod preview;
