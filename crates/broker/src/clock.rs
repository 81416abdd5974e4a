//! The one clock of the service.

use std::time::{Duration, SystemTime, UNIX_EPOCH};

use moorfall_core::Time;
use time::OffsetDateTime;
use tokio::time::Instant;

/// Microseconds since 1970, so that times mean the same after a restart. While the service runs they grow evenly,
/// whatever happens to the machine's wall clock; a test that stops Tokio's time stops this clock, too.
#[derive(Clone, Copy, Debug)]
pub struct Clock {
    began: Instant,
    /// The wall clock at that moment, since 1970.
    origin: Duration,
}

impl Clock {
    /// A clock that agrees with the machine's at this moment.
    pub fn start() -> Self {
        let origin = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
        Self { began: Instant::now(), origin }
    }

    /// The time since 1970, microseconds.
    pub fn now(&self) -> Time {
        let since = self.origin + self.began.elapsed();
        Time::from_micros(u64::try_from(since.as_micros()).unwrap_or(u64::MAX))
    }

    /// The same point for Tokio's timers; what is past is now.
    pub fn instant(&self, time: Time) -> Instant {
        let since = Duration::from_micros(time.as_micros()).saturating_sub(self.origin);
        self.began.checked_add(since).unwrap_or(self.began + FAR_AWAY)
    }
}

/// Waits until then; for ever without a time.
pub async fn sleep(due: Option<Instant>) {
    match due {
        Some(due) => tokio::time::sleep_until(due).await,
        None => std::future::pending().await,
    }
}

/// Stands in for times that the machine's clock can't say.
const FAR_AWAY: Duration = Duration::from_secs(365 * 24 * 3_600);

/// The time as people read it.
pub fn date(time: Time) -> OffsetDateTime {
    let nanos = i128::from(time.as_micros()) * 1_000;
    OffsetDateTime::from_unix_timestamp_nanos(nanos).unwrap_or(OffsetDateTime::UNIX_EPOCH)
}
