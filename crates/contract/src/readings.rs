//! What is carried, now and over time.

use moorfall_core::measure::Rates;
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

/// Throughput over time.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Throughput {
    /// The span of one point, seconds: 1 or 60.
    pub resolution_seconds: u32,
    /// Oldest first. Where the service was not running there is no point.
    pub points: Vec<ThroughputPoint>,
}

/// What the broker carried in the span that ended at `at`.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ThroughputPoint {
    /// The end of the span.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// Connected sessions at its end.
    pub sessions: u64,
    /// Messages in per second.
    pub messages_in: f64,
    /// Messages out per second.
    pub messages_out: f64,
    /// Bytes in per second.
    pub bytes_in: f64,
    /// Bytes out per second.
    pub bytes_out: f64,
}

/// Rates, each per second.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LiveRates {
    /// Messages in per second.
    pub messages_in: f64,
    /// Messages out per second.
    pub messages_out: f64,
    /// Bytes in per second.
    pub bytes_in: f64,
    /// Bytes out per second.
    pub bytes_out: f64,
}

impl From<Rates> for LiveRates {
    fn from(rates: Rates) -> Self {
        let Rates { messages_in, messages_out, bytes_in, bytes_out } = rates;
        Self { messages_in, messages_out, bytes_in, bytes_out }
    }
}

/// One reading of the counters; there is one each second.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LiveReading {
    /// When it was taken.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// Connected sessions.
    pub sessions: u64,
    /// Over the last second.
    pub rates: LiveRates,
    /// A moving average over ten seconds.
    pub average: LiveRates,
    /// Messages that were routed to a session and not sent, since the start.
    pub withheld: u64,
    /// Attempts that were refused, since the start.
    pub refused: u64,
}
