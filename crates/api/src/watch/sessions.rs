//! Sessions, connected and away.

use std::sync::{Arc, atomic::Ordering};

use axum::{Extension, Json, extract::State, http::StatusCode};
use moorfall_broker::{
    broker::Broker,
    clock::date,
    sessions::record::{Place, SessionRecord, SignedInBy as Proof},
};
use moorfall_contract::{
    kinds::SignedInBy,
    sessions::{SessionList, SessionView},
};
use serde::Deserialize;
use time::OffsetDateTime;
use utoipa::IntoParams;

use crate::http::{
    apart::apart,
    operator::Operator,
    problem::Fault,
    reading::{Limit, Path, Query},
    responses::NotFound,
};

/// Which sessions are asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Wanted {
    /// Only those whose client identifier, identity or address holds this text.
    #[serde(default)]
    search: String,
    /// Only those behind this client identifier: the last one of the page before.
    #[param(nullable = false)]
    after: Option<String>,
    /// The largest number returned.
    #[serde(default)]
    #[param(value_type = u64, default = 500, minimum = 1, maximum = 10_000)]
    limit: Limit<500, 10_000>,
}

/// List sessions
///
/// Connected and disconnected, by client identifier.
#[utoipa::path(get, operation_id = "list_sessions", path = "/sessions", tag = "sessions", params(Wanted), responses(
    (status = 200, body = SessionList),
))]
pub async fn list(State(broker): State<Arc<Broker>>, Query(wanted): Query<Wanted>) -> Json<SessionList> {
    apart(move || Json(list_of(&broker, &wanted))).await
}

fn list_of(broker: &Broker, wanted: &Wanted) -> SessionList {
    let most = wanted.limit.0;
    let is_behind = |record: &SessionRecord| wanted.after.as_ref().is_none_or(|after| record.client_id > *after);
    if wanted.search.is_empty() {
        let sessions = broker.sessions.registry.page(wanted.after.as_deref(), most);
        let sessions = sessions.iter().map(|record| view(record)).collect();
        return SessionList { total: broker.sessions.registry.count() as u64, sessions };
    }
    let (mut total, mut sessions) = (0, Vec::new());
    for record in broker.sessions.registry.all() {
        let is_found = record.client_id.contains(&wanted.search)
            || record.identity.contains(&wanted.search)
            || record.link().is_some_and(|link| link.address.to_string().contains(&wanted.search));
        total += u64::from(is_found);
        if is_found && sessions.len() < most && is_behind(&record) {
            sessions.push(view(&record));
        }
    }
    SessionList { total, sessions }
}

/// Get a session
#[utoipa::path(get, operation_id = "show_session", path = "/sessions/{client_id}", tag = "sessions", params(("client_id" = String, Path)), responses(
    (status = 200, body = SessionView),
    NotFound,
))]
pub async fn show(
    State(broker): State<Arc<Broker>>,
    Path(client_id): Path<String>,
) -> Result<Json<SessionView>, Fault> {
    find(&broker, &client_id).map(|record| Json(view(&record)))
}

/// End a session
///
/// The client is disconnected, and its queued messages are lost. It can connect again.
#[utoipa::path(delete, operation_id = "end_session", path = "/sessions/{client_id}", tag = "sessions", params(("client_id" = String, Path)), responses(
    (status = 204, description = "The session ends"),
    NotFound,
))]
pub async fn end(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Path(client_id): Path<String>,
) -> Result<StatusCode, Fault> {
    let record = find(&broker, &client_id)?;
    broker.sessions.end_session(&record, &operator.author()).await;
    Ok(StatusCode::NO_CONTENT)
}

fn find(broker: &Broker, client_id: &str) -> Result<Arc<SessionRecord>, Fault> {
    broker.sessions.registry.get(client_id).ok_or_else(|| {
        let detail =
            format!("There is no session with the client identifier {client_id}. GET /api/v1/sessions lists all.");
        Fault::new(StatusCode::NOT_FOUND, "Session not found", detail)
    })
}

fn signed_in_by(by: &Proof) -> SignedInBy {
    match by {
        Proof::Nothing => SignedInBy::Nothing,
        Proof::Secret => SignedInBy::Secret,
        Proof::Password => SignedInBy::Password,
        Proof::Token(_) => SignedInBy::Token,
        Proof::Certificate => SignedInBy::Certificate,
        Proof::Person(_) => SignedInBy::Person,
    }
}

fn view(record: &SessionRecord) -> SessionView {
    let totals = record.counters.read();
    let (queue, dropped) = record.queue();
    let refusal = record.last_refusal.lock().clone();
    let link = record.link();
    let (since, ends_at) = match (&link, &*record.place.lock()) {
        (Some(link), _) => (link.connected_at, None),
        (None, Place::Parked(parked)) => (date(parked.since), parked.ends.map(date)),
        (None, _) => (OffsetDateTime::now_utc(), None),
    };
    SessionView {
        client_id: record.client_id.clone(),
        identity: record.identity.to_string(),
        connected: link.is_some(),
        address: link.as_ref().map_or_else(String::new, |link| link.address.to_string()),
        listener: link.as_ref().map_or_else(String::new, |link| link.listener.to_string()),
        signed_in_by: link.as_ref().map(|link| signed_in_by(&link.by)),
        certificate: link
            .as_ref()
            .and_then(|link| link.certificate.as_ref()?.matches.last().cloned())
            .unwrap_or_default(),
        version: link.as_ref().map_or_else(String::new, |link| link.version.to_string()),
        since,
        began_at: date(record.began_at),
        persistent: record.is_persistent(),
        ends_at,
        messages_in: totals.messages_in,
        messages_out: totals.messages_out,
        bytes_in: totals.bytes_in,
        bytes_out: totals.bytes_out,
        subscriptions: record.subscriptions.load(Ordering::Relaxed) as u64,
        queue: queue as u64,
        in_flight: record.in_flight.load(Ordering::Relaxed) as u64,
        dropped,
        withheld: record.withheld.load(Ordering::Relaxed),
        refused: totals.refused,
        last_refusal: refusal.as_ref().map_or_else(String::new, |last| last.1.to_string()),
        last_refusal_at: refusal.map(|last| last.0),
    }
}
