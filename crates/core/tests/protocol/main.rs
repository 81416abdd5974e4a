//! The rules of the protocol, tested with simulated clients, a simulated broker and a simulated clock.
#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod basics;
mod bridge_runs;
mod bridges;
mod client_session;
mod handshakes;
mod model;
mod permissions;
mod properties;
mod queues;
mod reasons;
mod resumed;
mod runs;
mod sessions;
mod shared;
mod statements;
mod together;
mod world;
