//! What is carried, now and over time.

use moorfall_core::{
    measure::{self, Measure},
    measures,
};
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

macro_rules! totals_and_rates {
    ($($name:ident: $unit:ident, $words:literal;)+) => {
        /// What has been counted since the service started.
        #[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
        pub struct Totals {
            $(#[doc = $words] pub $name: u64,)+
        }

        impl From<measure::Totals> for Totals {
            fn from(totals: measure::Totals) -> Self {
                Self { $($name: totals.$name,)+ }
            }
        }

        /// The same per second.
        #[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
        pub struct Rates {
            $(#[doc = $words] pub $name: f64,)+
        }

        impl From<measure::Rates> for Rates {
            fn from(rates: measure::Rates) -> Self {
                Self { $($name: rates.$name,)+ }
            }
        }
    };
}

measures!(totals_and_rates);

/// What a measure counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Unit {
    /// Messages.
    Messages,
    /// Bytes.
    Bytes,
    /// Attempts.
    Attempts,
}

/// A measure, as the catalogue has it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MeasureView {
    /// Its name: that of a field of the totals and rates.
    pub name: String,
    /// What it counts.
    pub unit: Unit,
    /// What it says, in a sentence.
    pub explanation: String,
}

impl From<&Measure> for MeasureView {
    fn from(measure: &Measure) -> Self {
        let unit = match measure.unit {
            measure::Unit::Messages => Unit::Messages,
            measure::Unit::Bytes => Unit::Bytes,
            measure::Unit::Attempts => Unit::Attempts,
        };
        Self { name: measure.name.into(), unit, explanation: measure.explanation.into() }
    }
}

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
    /// Per second, in that span.
    #[serde(flatten)]
    pub rates: Rates,
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
    pub rates: Rates,
    /// A moving average over ten seconds.
    pub average: Rates,
    /// Since the service started.
    pub totals: Totals,
}
