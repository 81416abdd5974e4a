//! What happened now and then.

use std::sync::Arc;

use axum::{Json, extract::State, http::StatusCode};
use moorfall_broker::broker::Broker;
use moorfall_contract::{events::EventView, kinds::EventKind};
use moorfall_store::{EventQuery, EventRecord};
use serde::Deserialize;
use strum::VariantArray;
use utoipa::IntoParams;

use crate::http::{
    fields::Moment,
    problem::Fault,
    reading::{Limit, Query},
};

/// Which events are asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Wanted {
    /// Only these kinds, with commas between them.
    #[serde(default)]
    #[param(example = "connected,disconnected")]
    kind: String,
    /// Only those about this identity.
    #[param(nullable = false)]
    identity: Option<String>,
    /// Only those by the client of this identifier.
    #[param(nullable = false)]
    client_id: Option<String>,
    /// Only those from this address.
    #[param(nullable = false)]
    address: Option<String>,
    /// Only those that hold this text.
    #[param(nullable = false)]
    text: Option<String>,
    /// Only those at or after this time.
    #[param(value_type = Option<String>, format = DateTime)]
    since: Option<Moment>,
    /// Only those at or before this time.
    #[param(value_type = Option<String>, format = DateTime)]
    until: Option<Moment>,
    /// Only those behind this one: for going on. The oldest come first then.
    #[param(nullable = false)]
    after: Option<i64>,
    /// Only those before this one: the last one of the page before.
    #[param(nullable = false)]
    before: Option<i64>,
    /// The largest number returned.
    #[serde(default)]
    #[param(value_type = u64, default = 200, minimum = 1, maximum = 5_000)]
    limit: Limit<200, 5_000>,
}

/// List events
///
/// Connections, sign-ins, sessions, subscriptions, changes, the database: newest first.
#[utoipa::path(get, operation_id = "list_events", path = "/events", tag = "service", params(Wanted), responses(
    (status = 200, body = Vec<EventView>),
))]
pub async fn list(
    State(broker): State<Arc<Broker>>,
    Query(wanted): Query<Wanted>,
) -> Result<Json<Vec<EventView>>, Fault> {
    let text = |text: Option<String>| text.filter(|text| !text.is_empty());
    let kinds = wanted.kind.split(',').map(str::trim).filter(|name| !name.is_empty());
    let kinds = kinds.map(|name| match EventKind::named(name) {
        Some(_) => Ok(name.to_owned()),
        None => {
            let known: Vec<&str> = moorfall_core::EventKind::VARIANTS.iter().map(Into::into).collect();
            let detail = format!("There is no kind of event \"{name}\". Kinds are {}.", known.join(", "));
            Err(Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "Invalid kind", detail))
        }
    });
    let query = EventQuery {
        kinds: kinds.collect::<Result<_, _>>()?,
        identity: text(wanted.identity),
        client_id: text(wanted.client_id),
        address: text(wanted.address),
        text: text(wanted.text),
        since: wanted.since.map(|Moment(at)| at),
        until: wanted.until.map(|Moment(at)| at),
        after: wanted.after,
        before: wanted.before,
    };
    let found = broker.store().events(&query, wanted.limit.0 as i64).await?;
    Ok(Json(found.into_iter().filter_map(view).collect()))
}

/// `None` for a kind that a later version has written.
fn view(record: EventRecord) -> Option<EventView> {
    let EventRecord { id, at, kind, identity, client_id, address, subject, explanation, times } = record;
    let kind = EventKind::named(&kind)?;
    Some(EventView { id, at, kind, identity, client_id, address, subject, explanation, count: times.unsigned_abs() })
}
