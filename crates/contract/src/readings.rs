//! What is carried, now and over time.

use std::collections::BTreeMap;

use moorfall_core::{
    measure::{self, Measure},
    measures,
};
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::kinds::{BusyIn, BusyOf, MeasureKind};

macro_rules! totals_and_rates {
    (
        flows { $($name:ident $Name:ident: $unit:ident by $by:ident, $kept:ident, $words:literal;)+ }
        $($rest:tt)*
    ) => {
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

/// A measure, as the catalogue has it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct MeasureView {
    /// Its name. A part of it goes by the name, a slash and a label, such as `messages_in/1`.
    pub name: String,
    /// How it behaves.
    pub kind: MeasureKind,
    /// What it counts, or is told in, such as `messages` or `seconds`.
    pub unit: String,
    /// What it is told apart by, such as `qos`; empty if by nothing.
    pub by: String,
    /// The labels of its parts.
    pub labels: Vec<String>,
    /// Whether history keeps it.
    pub history: bool,
    /// What it says, in a sentence.
    pub explanation: String,
}

impl From<Measure> for MeasureView {
    fn from(measure: Measure) -> Self {
        Self {
            name: measure.name().into(),
            kind: measure.kind().into(),
            unit: <&str>::from(measure.unit()).into(),
            by: measure.by().key().into(),
            labels: measure.by().labels().iter().map(|label| (*label).into()).collect(),
            history: measure.is_kept(),
            explanation: measure.explanation().into(),
        }
    }
}

/// Everything that is measured, read at one moment.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Readings {
    /// By the names of measures, and of their parts such as `messages_in/1`. What is not known is left out: a time of which
    /// there was none lately, say.
    pub values: BTreeMap<String, f64>,
    /// The main rates per second over 1, 5 and 15 minutes.
    pub averages: Vec<WindowAverage>,
}

/// Rates over a window of time.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct WindowAverage {
    /// The window, seconds.
    pub window_seconds: u32,
    /// How much of it the rates were taken over: less while the service has not been running for so long.
    pub covered_seconds: u32,
    /// The rates.
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
    /// The main rates over 1, 5 and 15 minutes.
    pub averages: Vec<WindowAverage>,
    /// How it was at this time yesterday, if that is known.
    pub yesterday: Option<Yesterday>,
}

/// What was measured a day ago: means of five minutes around this time.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Yesterday {
    /// Connected sessions.
    pub sessions: f64,
    /// Messages per second that were accepted from clients.
    pub messages_in: f64,
    /// Messages per second that were sent to clients.
    pub messages_out: f64,
    /// Attempts per second that were refused.
    pub refused: f64,
}

/// What is busiest of late.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Busiest {
    /// Of what.
    pub of: BusyOf,
    /// By what.
    pub by: BusyIn,
    /// The time in which it was counted, seconds: one minute to two, less after the start of the service.
    pub seconds: f64,
    /// The busiest, first.
    pub busiest: Vec<Busy>,
}

/// One of the busiest.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Busy {
    /// A client identifier, an identity, a topic or a branch.
    pub name: String,
    /// Messages, or bytes: never too low, and at most `too_many` too high.
    pub count: u64,
    /// So many of them may be others'. 0 unless more were busy than are told apart.
    pub too_many: u64,
    /// The count per second.
    pub rate: f64,
}
