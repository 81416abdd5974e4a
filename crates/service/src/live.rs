//! What goes on, remembered in memory: nothing here waits, asks who may, or grows without a bound.

use crate::{
    counters::PerCore,
    drift::{Drifts, Refusals},
    recorder::Recorder,
    topics::Topics,
};

/// What one broker remembers of what goes on.
#[derive(Debug)]
pub(crate) struct Live {
    pub(crate) counters: PerCore,
    pub(crate) topics: Topics,
    pub(crate) drifts: Drifts,
    pub(crate) refusals: Refusals,
    pub(crate) recorder: Recorder,
}

impl Live {
    /// The hierarchy takes so many bytes at most.
    pub(crate) fn new(hierarchy_bytes: usize) -> Self {
        Self {
            counters: PerCore::default(),
            topics: Topics::new(hierarchy_bytes),
            drifts: Drifts::default(),
            refusals: Refusals::default(),
            recorder: Recorder::default(),
        }
    }
}
