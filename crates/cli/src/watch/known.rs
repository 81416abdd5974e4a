//! What is known of the service, and what is shown of it.

use std::collections::VecDeque;

use moorfall_contract::{
    events::EventView,
    kinds::{BusyIn, BusyOf},
    readings::{Busiest, Readings},
    status::Status,
};

/// What is known of the service.
#[derive(Debug, Default)]
pub(super) struct Known {
    pub(super) status: Option<Status>,
    pub(super) readings: Option<Readings>,
    /// Messages in and out, per second, oldest first.
    pub(super) rates: VecDeque<(f64, f64)>,
    pub(super) busiest: Option<Busiest>,
    /// Newest first.
    pub(super) events: Vec<EventView>,
    /// Why the service can't be asked now.
    pub(super) trouble: String,
}

/// What is shown of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct View {
    pub(super) of: BusyOf,
    pub(super) by: BusyIn,
    pub(super) paused: bool,
    /// Whether there may be colours.
    pub(super) colours: bool,
}
