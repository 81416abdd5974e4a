//! What happens now, as server-sent events.

use std::{convert::Infallible, sync::Arc};

use axum::{
    extract::State,
    response::sse::{Event, KeepAlive, Sse},
};
use futures_util::{Stream, stream};
use moorfall_core::measure::{Rates, Totals};
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use tokio::sync::broadcast::error::RecvError;
use utoipa::ToSchema;

use super::problem::Problem;
use crate::broker::Broker;

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

impl LiveReading {
    pub(crate) fn new(at: OffsetDateTime, sessions: usize, rates: Rates, average: Rates, totals: Totals) -> Self {
        Self {
            at,
            sessions: sessions as u64,
            rates: rates.into(),
            average: average.into(),
            withheld: totals.withheld,
            refused: totals.refused,
        }
    }
}

/// A stream of server-sent events named `reading`, one each second.
#[utoipa::path(get, path = "/live", tag = "service", responses(
    (status = 200, body = LiveReading, content_type = "text/event-stream"),
    (status = 401, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn live(State(broker): State<Arc<Broker>>) -> Sse<impl Stream<Item = Result<Event, Infallible>>> {
    let readings = broker.live.subscribe();
    let stopping = broker.stopping.clone();
    let events = stream::unfold((readings, stopping), |(mut readings, stopping)| async move {
        loop {
            let reading = tokio::select! {
                reading = readings.recv() => reading,
                () = stopping.cancelled() => return None,
            };
            match reading {
                Ok(reading) => {
                    let event = Event::default().event("reading").json_data(&reading).ok()?;
                    return Some((Ok(event), (readings, stopping)));
                }
                // A reader that was too slow goes on with the newest readings.
                Err(RecvError::Lagged(_)) => {}
                Err(RecvError::Closed) => return None,
            }
        }
    });
    Sse::new(events).keep_alive(KeepAlive::default())
}
