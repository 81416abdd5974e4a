//! Sessions, connected and away.

use std::{sync::Arc, time::Duration};

use axum::{Extension, Json, extract::State, http::StatusCode};
use moorfall_broker::{
    bans::{Ban, Banned, NotBanned, network},
    broker::Broker,
    sessions::record::SessionRecord,
};
use moorfall_contract::{
    kinds::EndReason,
    sessions::{
        BanDraft, BanView, ConditionView, SessionDetails, SessionList, SessionsEnd, SessionsEnded, SubscribedTo,
    },
};
use moorfall_core::{BUILT_IN, EventKind, When, router::Subscriber};
use moorfall_store::EventQuery;
use moorfall_wire::ReasonCode;

use super::{
    session_list::{Wanted, list_of, net_of, no_network},
    session_view::view,
};
use crate::http::{
    apart::apart,
    operator::Operator,
    problem::{Body, Fault},
    reading::{Path, Query},
    responses::{Conflict, NotFound},
};

/// Subscriptions of a session that are listed.
const FILTERS: usize = 1_000;

/// Sessions that are ended at a time.
const TOGETHER: usize = 10_000;

/// The longest ban, seconds.
const LONGEST_BAN: u32 = 365 * 86_400;

/// Bytes of a note.
const NOTE: usize = 500;

/// List sessions
///
/// Connected and disconnected; of any number the page that is asked for.
#[utoipa::path(get, operation_id = "list_sessions", path = "/sessions", tag = "sessions", params(Wanted), responses(
    (status = 200, body = SessionList),
))]
pub async fn list(State(broker): State<Arc<Broker>>, Query(wanted): Query<Wanted>) -> Result<Json<SessionList>, Fault> {
    let net = net_of(&wanted)?;
    Ok(apart(move || Json(list_of(&broker, &wanted, net))).await)
}

/// Get a session
#[utoipa::path(get, operation_id = "show_session", path = "/sessions/{client_id}", tag = "sessions", params(("client_id" = String, Path)), responses(
    (status = 200, body = SessionDetails),
    NotFound,
))]
pub async fn show(
    State(broker): State<Arc<Broker>>,
    Path(client_id): Path<String>,
) -> Result<Json<SessionDetails>, Fault> {
    let record = find(&broker, &client_id)?;
    let mut session = view(&broker, &record, broker.now());
    if session.last_end.is_empty() {
        // Before the service was started, or in an earlier session of this client identifier.
        let ends = [EventKind::Disconnected, EventKind::ConnectionLost, EventKind::TakenOver]
            .map(|kind| <&str>::from(kind).to_owned());
        let query = EventQuery { kinds: ends.to_vec(), client_id: Some(client_id), ..EventQuery::default() };
        // Without the database it is not known.
        let last = broker.store().events(&query, 1).await.unwrap_or_default().pop();
        (session.last_end_at, session.last_end) =
            last.map_or((None, String::new()), |last| (Some(last.at), last.explanation));
    }
    let key = record.key;
    let design = record.when().into_iter().flat_map(|all| all.to_vec());
    let conditions = design
        .map(|When { name, topics, condition }| ConditionView {
            name: name.to_string(),
            topics: topics.iter().map(ToString::to_string).collect(),
            condition: condition.to_string(),
        })
        .collect();
    let filters = apart(move || {
        let mut filters = Vec::new();
        broker.sessions.router.each_subscription(|filter, session, Subscriber { granted, .. }| {
            if session == key {
                let (filter, qos) = (filter.to_string(), granted.options.qos.level());
                let condition = granted.condition.as_ref().map(ToString::to_string);
                filters.push(SubscribedTo { filter, qos, condition });
            }
        });
        filters.sort_by(|one: &SubscribedTo, other| one.filter.cmp(&other.filter));
        filters.truncate(FILTERS);
        filters
    })
    .await;
    Ok(Json(SessionDetails { session, filters, conditions }))
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
    broker.sessions.end_sessions(&[record], ReasonCode::AdministrativeAction, false, &operator.author()).await;
    Ok(StatusCode::NO_CONTENT)
}

/// End several sessions
///
/// Their clients are disconnected with this reason code; what is queued for them is lost unless the sessions are kept.
/// Sessions of clients that are away are forgotten. The list of sessions, asked for with the same filter, shows who that is.
#[utoipa::path(post, operation_id = "end_sessions", path = "/sessions/end", tag = "sessions", request_body = SessionsEnd, responses(
    (status = 200, body = SessionsEnded),
))]
pub async fn end_many(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Body(SessionsEnd { client_ids, reason, keep }): Body<SessionsEnd>,
) -> Result<Json<SessionsEnded>, Fault> {
    if client_ids.is_empty() || client_ids.len() > TOGETHER {
        let detail = format!("Name 1 to {TOGETHER} client identifiers, and not {}.", client_ids.len());
        return Err(Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "Invalid number of sessions", detail));
    }
    let (mut records, mut missing) = (Vec::new(), Vec::new());
    for client_id in client_ids {
        match broker.sessions.registry.get(&client_id) {
            Some(record) => records.push(record),
            None => missing.push(client_id),
        }
    }
    let ended = records.len() as u64;
    if !records.is_empty() {
        broker.sessions.end_sessions(&records, code(reason), keep, &operator.author()).await;
    }
    Ok(Json(SessionsEnded { ended, missing }))
}

fn code(reason: EndReason) -> ReasonCode {
    match reason {
        EndReason::AdministrativeAction => ReasonCode::AdministrativeAction,
        EndReason::NotAuthorized => ReasonCode::NotAuthorized,
        EndReason::ServerBusy => ReasonCode::ServerBusy,
        EndReason::MessageRateTooHigh => ReasonCode::MessageRateTooHigh,
        EndReason::QuotaExceeded => ReasonCode::QuotaExceeded,
        EndReason::ConnectionRateExceeded => ReasonCode::ConnectionRateExceeded,
    }
}

/// List bans
///
/// Identities and addresses that are not let in for a time; the next to end first.
#[utoipa::path(get, operation_id = "list_bans", path = "/bans", tag = "sessions", responses(
    (status = 200, body = Vec<BanView>),
))]
pub async fn bans(State(broker): State<Arc<Broker>>) -> Json<Vec<BanView>> {
    Json(broker.bans.list().iter().map(ban_view).collect())
}

/// Ban an identity or address for a time
///
/// Its connections are ended; sessions that outlive their connections stay. Another ban of the same takes its place.
#[utoipa::path(post, operation_id = "ban", path = "/bans", tag = "sessions", request_body = BanDraft, responses(
    (status = 201, body = BanView),
    Conflict,
))]
pub async fn ban(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Body(BanDraft { identity, address, seconds, note }): Body<BanDraft>,
) -> Result<(StatusCode, Json<BanView>), Fault> {
    let wrong = |detail: &str| Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "Invalid ban", detail);
    if !(1..=LONGEST_BAN).contains(&seconds) {
        return Err(wrong(&format!("A ban lasts for 1 to {LONGEST_BAN} seconds, and not for {seconds}.")));
    }
    if note.len() > NOTE {
        return Err(wrong(&format!("The note has {} B; the limit is {NOTE} B.", note.len())));
    }
    let who = match (identity, address) {
        (Some(name), None) if BUILT_IN.contains(&&*name) => {
            return Err(wrong(&format!("{name} is built in and can't be banned. Ban an address.")));
        }
        (Some(name), None) if !name.is_empty() => Banned::Identity(name),
        (None, Some(address)) => Banned::Address(network(&address).ok_or_else(|| no_network(&address))?),
        _ => return Err(wrong("Name an identity or an address.")),
    };
    let time = Duration::from_secs(seconds.into());
    match broker.ban(who, time, note, &operator.author()).await {
        Ok(ban) => Ok((StatusCode::CREATED, Json(ban_view(&ban)))),
        Err(NotBanned::Store(error)) => Err(error.into()),
        Err(full @ NotBanned::TooMany) => {
            Err(Fault::new(StatusCode::CONFLICT, "Too many bans", format!("Nobody was banned: {full}.")))
        }
    }
}

/// Lift a ban
#[utoipa::path(delete, operation_id = "lift_ban", path = "/bans/{id}", tag = "sessions", params(("id" = String, Path)), responses(
    (status = 204, description = "The ban is lifted"),
    NotFound,
))]
pub async fn lift(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Path(id): Path<String>,
) -> Result<StatusCode, Fault> {
    if broker.bans.lift(&id, &operator.author()).await? {
        return Ok(StatusCode::NO_CONTENT);
    }
    let detail = format!("There is no ban {id}, or it is over. GET /api/v1/bans lists those that are in force.");
    Err(Fault::new(StatusCode::NOT_FOUND, "Ban not found", detail))
}

fn ban_view(ban: &Ban) -> BanView {
    let (identity, address) = match &ban.who {
        Banned::Identity(name) => (name.clone(), String::new()),
        // One address is written without the length of its network.
        Banned::Address(net) if net.prefix_len() == net.max_prefix_len() => (String::new(), net.addr().to_string()),
        Banned::Address(net) => (String::new(), net.to_string()),
    };
    BanView { id: ban.id.clone(), identity, address, until: ban.until, note: ban.note.clone(), by: ban.by.clone() }
}

fn find(broker: &Broker, client_id: &str) -> Result<Arc<SessionRecord>, Fault> {
    broker.sessions.registry.get(client_id).ok_or_else(|| {
        let detail =
            format!("There is no session with the client identifier {client_id}. GET /api/v1/sessions lists all.");
        Fault::new(StatusCode::NOT_FOUND, "Session not found", detail)
    })
}
