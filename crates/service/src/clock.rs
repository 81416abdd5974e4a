//! The one clock of the service.

use std::time::Instant;

use moorfall_core::Time;

/// Microseconds since the service started.
#[derive(Debug)]
pub(crate) struct Clock(Instant);

impl Clock {
    pub(crate) fn start() -> Self {
        Self(Instant::now())
    }

    pub(crate) fn now(&self) -> Time {
        Time::from_micros(u64::try_from(self.0.elapsed().as_micros()).unwrap_or(u64::MAX))
    }

    /// The same point for Tokio's timers.
    pub(crate) fn instant(&self, time: Time) -> tokio::time::Instant {
        tokio::time::Instant::from_std(self.0 + std::time::Duration::from_micros(time.as_micros()))
    }
}
