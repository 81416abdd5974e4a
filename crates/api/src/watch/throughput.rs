//! Throughput over time, from the database.

use axum::{Json, extract::State, http::StatusCode};
use moorfall_contract::readings::{Throughput, ThroughputPoint};
use moorfall_store::{Resolution, Sample};
use serde::Deserialize;
use time::{Duration, OffsetDateTime};
use utoipa::IntoParams;

use crate::{
    http::{problem::Fault, reading::Query},
    state::App,
};

/// Spans up to this are answered by one-second samples.
const FINE: i64 = 60;

/// The longest span, minutes.
const LONGEST: i64 = 60 * 24 * 400;

/// How far back to look.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Span {
    /// Minutes back from now. Up to 60 the points are one second apart, beyond that one minute.
    #[serde(default = "default_minutes")]
    #[param(default = 15, minimum = 1, maximum = 576_000)]
    minutes: i64,
}

fn default_minutes() -> i64 {
    15
}

/// Get throughput over time
#[utoipa::path(get, path = "/throughput", tag = "service", params(Span), responses(
    (status = 200, body = Throughput),
))]
pub async fn throughput(
    State(App { broker, watch, .. }): State<App>,
    Query(span): Query<Span>,
) -> Result<Json<Throughput>, Fault> {
    if !(1..=LONGEST).contains(&span.minutes) {
        let detail = format!("`minutes` is {}; it must be from 1 to {LONGEST}.", span.minutes);
        return Err(Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "Invalid span", detail));
    }
    let resolution = if span.minutes <= FINE { Resolution::Second } else { Resolution::Minute };
    let since = OffsetDateTime::now_utc() - Duration::minutes(span.minutes);
    let mut samples = match broker.store().samples(resolution, since).await {
        Ok(samples) => samples,
        // What is in memory is better than nothing; the status says that the database is away.
        Err(error) => {
            tracing::debug!(%error, "throughput is read only from memory");
            Vec::new()
        }
    };
    // The newest samples are not written yet.
    let newest = samples.last().map_or(since, |sample| sample.at);
    samples.extend(watch.recent(resolution, newest));
    Ok(Json(Throughput { resolution_seconds: resolution as u32, points: samples.iter().map(point).collect() }))
}

fn point(sample: &Sample) -> ThroughputPoint {
    ThroughputPoint {
        at: sample.at,
        sessions: u64::try_from(sample.sessions).unwrap_or(0),
        rates: sample.counts.over(std::time::Duration::from_secs_f64(sample.span_seconds)).into(),
    }
}
