//! What goes on, remembered in memory: nothing here waits, asks who may, or grows without a bound.

use crate::{
    counters::PerCore,
    drift::{Drifts, Refusals},
    journeys::Recorder,
    topics::hierarchy::Topics,
};

/// What one broker remembers of what goes on.
#[derive(Debug)]
pub struct Live {
    /// What was carried.
    pub counters: PerCore,
    /// The live hierarchy.
    pub topics: Topics,
    /// Where traffic and plan differ.
    pub drifts: Drifts,
    /// What was refused.
    pub refusals: Refusals,
    /// Journeys of messages.
    pub recorder: Recorder,
}

impl Live {
    /// The hierarchy takes so many bytes at most.
    pub fn new(hierarchy_bytes: usize) -> Self {
        Self {
            counters: PerCore::default(),
            topics: Topics::new(hierarchy_bytes),
            drifts: Drifts::default(),
            refusals: Refusals::default(),
            recorder: Recorder::default(),
        }
    }
}
