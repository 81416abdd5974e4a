//! The time that is handed to the core.

use std::{
    ops::{Add, Sub},
    time::Duration,
};

/// A point in time, microseconds from a start that the caller chose. It never goes back.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Time(u64);

impl Time {
    /// `micros` microseconds after the start.
    pub fn from_micros(micros: u64) -> Self {
        Self(micros)
    }

    /// Microseconds since the start.
    pub fn as_micros(self) -> u64 {
        self.0
    }
}

impl Add<Duration> for Time {
    type Output = Self;

    fn add(self, span: Duration) -> Self {
        Self(self.0.saturating_add(u64::try_from(span.as_micros()).unwrap_or(u64::MAX)))
    }
}

impl Sub for Time {
    type Output = Duration;

    /// The span from `earlier` to this; zero when `earlier` is later.
    fn sub(self, earlier: Self) -> Duration {
        Duration::from_micros(self.0.saturating_sub(earlier.0))
    }
}
