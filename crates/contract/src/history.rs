//! What was measured over time.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::kinds::MeasureKind;

/// What is to be known of a time.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum RemarkKind {
    /// Nothing was measured: the service was stopped.
    Stopped,
    /// Nothing was measured: the service ended without being stopped.
    Killed,
    /// What was measured is lost: the database was away for longer than it can wait.
    DatabaseAway,
    /// It was not measured but made up, for a demo.
    MadeUp,
}

impl RemarkKind {
    const ALL: [Self; 4] = [Self::Stopped, Self::Killed, Self::DatabaseAway, Self::MadeUp];

    /// As it is stored.
    pub fn name(self) -> &'static str {
        match self {
            Self::Stopped => "stopped",
            Self::Killed => "killed",
            Self::DatabaseAway => "database-away",
            Self::MadeUp => "made-up",
        }
    }

    /// The one of this name.
    pub fn named(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.name() == name)
    }
}

impl std::fmt::Display for RemarkKind {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Self::Stopped => "the service was stopped",
            Self::Killed => "the service ended unexpectedly",
            Self::DatabaseAway => "the database was unavailable",
            Self::MadeUp => "made up for the demo",
        })
    }
}

/// Measures over a range of time.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct History {
    /// The beginning of the range.
    #[serde(with = "time::serde::rfc3339")]
    pub from: OffsetDateTime,
    /// Its end.
    #[serde(with = "time::serde::rfc3339")]
    pub to: OffsetDateTime,
    /// The spans that points are made of, seconds: 10, 60 or 900.
    pub resolution_seconds: u32,
    /// From one point to the next, seconds.
    pub step_seconds: u32,
    /// Each series that was asked for, in that order.
    pub series: Vec<SeriesHistory>,
    /// What is to be known of times in the range: why points are missing, or that they were made up. Where points are
    /// missing elsewhere, it is not known why.
    pub remarks: Vec<HistoryRemark>,
}

/// One series over the range.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SeriesHistory {
    /// Its name: that of a measure, or a part such as `messages_in/1`.
    pub name: String,
    /// How the measure behaves. Of counters the values are rates per second.
    pub kind: MeasureKind,
    /// What the measure counts, or is told in.
    pub unit: String,
    /// Oldest first. Where nothing was measured there is no point.
    pub points: Vec<HistoryPoint>,
}

/// A series in the step that ended at `at`.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct HistoryPoint {
    /// The end of the step.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// The least value in it.
    pub minimum: f64,
    /// The mean.
    pub mean: f64,
    /// The greatest.
    pub maximum: f64,
    /// The last one.
    pub last: f64,
    /// How much was counted, of a counter.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub sum: Option<f64>,
}

/// What is to be known of a time.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HistoryRemark {
    /// Its beginning.
    #[serde(with = "time::serde::rfc3339")]
    pub from: OffsetDateTime,
    /// Its end.
    #[serde(with = "time::serde::rfc3339")]
    pub to: OffsetDateTime,
    /// What.
    pub kind: RemarkKind,
}
