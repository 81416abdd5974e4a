//! What goes on, remembered in memory. Nothing here waits, asks who may, or grows without a bound; time is handed in.

pub mod busiest;
pub mod counters;
pub mod drift;
pub mod ears;
pub mod events;
pub mod facts;
pub mod heard;
pub mod journeys;
pub mod ladders;
pub mod links;
pub mod pcapng;
pub mod silence;
pub mod topics;

mod live;

pub use live::Live;
pub mod ways;
