//! What is busiest of late.

use std::sync::Arc;

use axum::{Json, extract::State};
use moorfall_broker::broker::Broker;
use moorfall_contract::{
    kinds::{BusyIn, BusyOf},
    readings::{Busiest, Busy},
};
use serde::Deserialize;
use utoipa::IntoParams;

use crate::http::reading::{Limit, Path, Query};

/// How the busiest are asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Wanted {
    /// By what.
    #[serde(default = "messages")]
    #[param(inline = false, default = "messages")]
    by: BusyIn,
    /// The largest number returned.
    #[serde(default)]
    #[param(value_type = u64, default = 10, minimum = 1, maximum = 512)]
    limit: Limit<10, 512>,
}

fn messages() -> BusyIn {
    BusyIn::Messages
}

/// List the busiest sessions, identities, topics or branches
///
/// Of the last one to two minutes. However many there are, only so many are counted at a time; a count is never too low,
/// and how much too high it may be is said.
#[utoipa::path(get, operation_id = "list_busiest", path = "/busiest/{of}", tag = "readings", params(("of" = BusyOf, Path), Wanted), responses(
    (status = 200, body = Busiest),
))]
pub async fn list(
    State(broker): State<Arc<Broker>>,
    Path(of): Path<BusyOf>,
    Query(Wanted { by, limit }): Query<Wanted>,
) -> Json<Busiest> {
    let (found, span) = broker.live.busiest.read(of.into(), by.into(), limit.0, broker.now());
    let seconds = span.as_secs_f64();
    let busiest = found.into_iter().map(|busy| Busy {
        name: busy.name.to_string(),
        count: busy.count,
        too_many: busy.too_many,
        rate: if seconds > 0.0 { busy.count as f64 / seconds } else { 0.0 },
    });
    Json(Busiest { of, by, seconds, busiest: busiest.collect() })
}
