//! What happens now, as server-sent events.
use std::{convert::Infallible, sync::Arc, time::Duration};

use axum::{
    Extension, Json,
    extract::State,
    http::StatusCode,
    response::sse::{Event, KeepAlive, Sse},
};
use futures_util::{Stream, stream};
use moorfall_contract::readings::{LiveReading, MeasureView, Readings, WindowAverage};
use moorfall_core::measure::{Measure, Rates, Series, WINDOWS};
use moorfall_watch::sampler::{Reading, Watch};
use tokio::sync::broadcast::error::RecvError;

use crate::{
    http::{operator::Operator, problem::Fault, responses::TooMany},
    state::App,
};

fn view(Reading { at, sessions, rates, average, totals, averages, yesterday }: &Reading) -> LiveReading {
    LiveReading {
        at: *at,
        sessions: *sessions as u64,
        rates: (*rates).into(),
        average: (*average).into(),
        totals: (*totals).into(),
        averages: windows(*averages),
        yesterday: *yesterday,
    }
}

/// The moving averages with their windows.
fn windows(averages: [(Rates, Duration); 3]) -> Vec<WindowAverage> {
    let told = WINDOWS.into_iter().zip(averages).map(|(window, (rates, covered))| WindowAverage {
        window_seconds: window.as_secs() as u32,
        covered_seconds: covered.min(window).as_secs() as u32,
        rates: rates.into(),
    });
    told.collect()
}

/// Stream live readings
///
/// Server-sent events named `reading`, one each second.
#[utoipa::path(get, path = "/live", tag = "service", responses(
    (status = 200, body = LiveReading, content_type = "text/event-stream"),
    TooMany,
))]
pub async fn live(
    State(App { broker, watch, people, .. }): State<App>,
    Extension(operator): Extension<Operator>,
) -> Result<Sse<impl Stream<Item = Result<Event, Infallible>>>, Fault> {
    let most = broker.limits.live_streams_per_person;
    let ticket = people.sign_ins.streams.take(Arc::clone(&operator.name), most, usize::MAX).ok_or_else(|| {
        let detail = format!("The limit of {most} live streams for {} is reached. Close one.", operator.name);
        Fault::new(StatusCode::TOO_MANY_REQUESTS, "Too many live streams", detail)
    })?;
    let readings = watch.readings();
    let stopping = broker.common.stopping.clone();
    // The stream ends with the sign-in that it rests on.
    let over = async move {
        match operator.signed_in {
            Some(signed_in) => signed_in.end().await,
            None => std::future::pending().await,
        }
    };
    let state = (readings, stopping, Box::pin(over), ticket);
    let events = stream::unfold(state, |(mut readings, stopping, mut over, ticket)| async move {
        loop {
            let reading = tokio::select! {
                reading = readings.recv() => reading,
                () = stopping.cancelled() => return None,
                () = &mut over => return None,
            };
            match reading {
                Ok(reading) => {
                    let event = Event::default().event("reading").json_data(view(&reading)).ok()?;
                    return Some((Ok(event), (readings, stopping, over, ticket)));
                }
                // A reader that was too slow goes on with the newest readings.
                Err(RecvError::Lagged(_)) => {}
                Err(RecvError::Closed) => return None,
            }
        }
    });
    Ok(Sse::new(events).keep_alive(KeepAlive::default()))
}

/// Read all measures
///
/// As they were read within the last second, and the moving averages of the main rates.
#[utoipa::path(get, operation_id = "read_measures", path = "/readings", tag = "service", responses(
    (status = 200, body = Readings),
))]
pub async fn now(State(watch): State<Arc<Watch>>) -> Json<Readings> {
    let latest = watch.latest();
    let values = Series::all().filter_map(|series| Some((series.to_string(), latest.value(series)?))).collect();
    Json(Readings { values, averages: windows(watch.averages()) })
}

/// List the measures
///
/// The catalogue: the fields of totals and rates, with their units and what they say.
#[utoipa::path(get, operation_id = "list_measures", path = "/measures", tag = "service", responses(
    (status = 200, body = Vec<MeasureView>),
))]
pub async fn measures() -> Json<Vec<MeasureView>> {
    Json(Measure::ALL.iter().copied().map(MeasureView::from).collect())
}
