//! What becomes of messages, and what is published.

use std::fmt;

use bytes::Bytes;
use serde::{Deserialize, Serialize};
use time::{OffsetDateTime, format_description::well_known::Rfc3339};

use crate::{NoValue, Scalar, Time};

/// What became of a message.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// This is published.
    Published(Bytes),
    /// It is like what was published before, or within the dead band.
    Unchanged,
    /// It waits until then, because something was published a moment ago.
    Waits(Time),
    /// The condition is not true.
    NotTrue,
    /// These other sources have not said anything yet.
    Incomplete(Vec<String>),
    /// A rate needs a second value.
    OneAlone,
    /// No value could be made.
    Failed(NoValue),
    /// There are as many topics as there is room for.
    Full,
}

/// Whether a value is as new as it is meant to be.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, strum::Display)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum Quality {
    /// It is.
    Good,
    /// Its sources are silent for longer than their cadence.
    Stale,
}

/// A value with its time, as it is published.
#[derive(Debug, Serialize)]
pub(super) struct MadeRecord {
    value: serde_json::Value,
    time: String,
    quality: Quality,
}

/// A value as JSON, a whole number without a fraction.
fn json(value: Scalar) -> serde_json::Value {
    #[allow(clippy::cast_possible_truncation, reason = "it is a whole number that is small enough")]
    match value {
        Scalar::Number(number) if number.fract() == 0.0 && number.abs() < 2_f64.powi(53) => (number as i64).into(),
        Scalar::Number(number) => number.into(),
        Scalar::Truth(truth) => truth.into(),
        Scalar::Text(text) => text.into(),
    }
}

impl MadeRecord {
    pub(super) fn new(value: Scalar, at: Time, quality: Quality) -> Self {
        let nanos = i128::from(at.as_micros() / 1_000) * 1_000_000;
        let date = OffsetDateTime::from_unix_timestamp_nanos(nanos).ok();
        let time = date.and_then(|date| date.format(&Rfc3339).ok()).unwrap_or_default();
        Self { value: json(value), time, quality }
    }
}

impl fmt::Display for MadeRecord {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&serde_json::to_string(self).map_err(|_| fmt::Error)?)
    }
}
