//! Clients that people hold at the console.

pub mod desk;
pub mod held;
pub mod orders;
pub mod setups;
