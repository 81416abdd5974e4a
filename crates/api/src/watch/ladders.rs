//! Ladders: the packets of a session, an identity or an address.

use std::{
    net::{Ipv4Addr, SocketAddr},
    sync::Arc,
    time::Duration,
};

use axum::{
    Extension, Json,
    body::Bytes,
    extract::State,
    http::{StatusCode, header},
    response::{IntoResponse, Response},
};
use moorfall_broker::{broker::Broker, clock::date};
use moorfall_contract::{
    ladders::{LadderDetails, LadderOrder, LadderView},
    people::Role,
};
use moorfall_core::Time;
use moorfall_live::{
    ladders::{LONGEST, Ladder, MOST, Whom},
    pcapng,
};
use moorfall_store::Deed;
use serde::Deserialize;
use serde_json::json;
use utoipa::IntoParams;

use super::ladder_packet::view;
use crate::{
    http::{
        operator::Operator,
        problem::{Body, Fault},
        reading::{Limit, Path, Query},
        responses::{Conflict, NotFound},
    },
    state::Process,
};

fn ladder_view(ladder: &Ladder, now: Time) -> LadderView {
    let (packets, left_out) = ladder.counts();
    let (session, identity, address) = match &ladder.whom {
        Whom::Session(client_id) => (client_id.clone(), String::new(), String::new()),
        Whom::Identity(name) => (String::new(), name.clone(), String::new()),
        Whom::Address(address) => (String::new(), String::new(), address.to_string()),
    };
    LadderView {
        number: ladder.number,
        session,
        identity,
        address,
        payloads: ladder.payloads,
        by: ladder.by.to_string(),
        began_at: date(ladder.began),
        ends_at: date(ladder.ends()),
        running: ladder.is_running(now),
        packets,
        left_out,
    }
}

fn find(broker: &Broker, number: u64) -> Result<Arc<Ladder>, Fault> {
    broker.live.ladders.get(number).ok_or_else(|| {
        let detail = format!("There is no ladder {number}. GET /api/v1/ladders lists those that there are.");
        Fault::new(StatusCode::NOT_FOUND, "Ladder not found", detail)
    })
}

/// Begin a ladder
///
/// From now on the packets of a session, an identity or an address are kept, both ways, without passwords.
#[utoipa::path(post, operation_id = "begin_ladder", path = "/ladders", tag = "ladders", request_body = LadderOrder, responses(
    (status = 201, body = LadderView),
    Conflict,
))]
pub async fn begin(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Body(order): Body<LadderOrder>,
) -> Result<(StatusCode, Json<LadderView>), Fault> {
    let wrong = |detail: String| Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "Invalid ladder", detail);
    let LadderOrder { session, identity, address, seconds, payloads } = order;
    let longest = LONGEST.as_secs();
    if !(1..=longest).contains(&u64::from(seconds)) {
        return Err(wrong(format!("A ladder runs for 1 to {longest} seconds, not {seconds}.")));
    }
    let (whom, name) = match (session, identity, address) {
        (Some(client_id), None, None) if !client_id.is_empty() => (Whom::Session(client_id.clone()), client_id),
        (None, Some(name), None) if !name.is_empty() => (Whom::Identity(name.clone()), name),
        (None, None, Some(address)) => {
            let read = address.parse().map_err(|_| wrong(format!("\"{address}\" is not an address.")))?;
            (Whom::Address(read), address)
        }
        _ => return Err(wrong("Name one session, one identity or one address.".into())),
    };
    if payloads && operator.role != Role::Own {
        let detail = "Payloads may hold anything, so only an owner can have them kept. Begin it without.";
        return Err(Fault::new(StatusCode::FORBIDDEN, "Role not sufficient", detail));
    }
    let (now, time) = (broker.now(), Duration::from_secs(seconds.into()));
    let begun = broker.live.ladders.begin(whom, (now, time), payloads, Arc::from(&*operator.name));
    let Ok(ladder) = begun else {
        let detail = format!("{MOST} ladders run already. End one of them first.");
        return Err(Fault::new(StatusCode::CONFLICT, "Too many ladders", detail));
    };
    let after = Some(json!({ "seconds": seconds, "payloads": payloads }));
    broker.sessions.note(&operator.author(), Deed { after, ..Deed::new("begin ladder of", "client", name) });
    Ok((StatusCode::CREATED, Json(ladder_view(&ladder, now))))
}

/// List ladders
#[utoipa::path(get, operation_id = "list_ladders", path = "/ladders", tag = "ladders", responses(
    (status = 200, body = Vec<LadderView>),
))]
pub async fn list(State(broker): State<Arc<Broker>>) -> Json<Vec<LadderView>> {
    let now = broker.now();
    Json(broker.live.ladders.list().iter().map(|ladder| ladder_view(ladder, now)).collect())
}

/// Which packets are asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Wanted {
    /// Only those behind the packet of this number.
    #[serde(default)]
    after: u64,
    /// The largest number returned.
    #[serde(default)]
    #[param(value_type = u64, default = 500, minimum = 1, maximum = 5_000)]
    limit: Limit<500, 5_000>,
}

/// Get a ladder and its packets
#[utoipa::path(get, operation_id = "show_ladder", path = "/ladders/{number}", tag = "ladders", params(("number" = u64, Path), Wanted), responses(
    (status = 200, body = LadderDetails),
    NotFound,
))]
pub async fn show(
    State(broker): State<Arc<Broker>>,
    Path(number): Path<u64>,
    Query(Wanted { after, limit }): Query<Wanted>,
) -> Result<Json<LadderDetails>, Fault> {
    let ladder = find(&broker, number)?;
    let packets = ladder.after(after, limit.0).into_iter().map(|rung| view(rung, ladder.payloads)).collect();
    Ok(Json(LadderDetails { ladder: ladder_view(&ladder, broker.now()), packets }))
}

/// End a ladder
///
/// Its packets stay until another ladder needs the room.
#[utoipa::path(post, operation_id = "end_ladder", path = "/ladders/{number}/stop", tag = "ladders", params(("number" = u64, Path)), responses(
    (status = 200, body = LadderView),
    NotFound,
))]
pub async fn end(State(broker): State<Arc<Broker>>, Path(number): Path<u64>) -> Result<Json<LadderView>, Fault> {
    let now = broker.now();
    find(&broker, number)?;
    let ended = broker.live.ladders.end(number, now);
    ended
        .map(|ladder| Json(ladder_view(&ladder, now)))
        .ok_or_else(|| Fault::new(StatusCode::NOT_FOUND, "Ladder not found", ""))
}

/// Export a ladder for network tools
///
/// A file in pcapng format; IP and TCP headers are made up around the packets.
#[utoipa::path(get, operation_id = "export_ladder", path = "/ladders/{number}/pcapng", tag = "ladders", params(("number" = u64, Path)), responses(
    (status = 200, content_type = "application/octet-stream", body = Vec<u8>),
    NotFound,
))]
pub async fn export(
    State(broker): State<Arc<Broker>>,
    State(process): State<Arc<Process>>,
    Path(number): Path<u64>,
) -> Result<Response, Fault> {
    let ladder = find(&broker, number)?;
    // Tools know MQTT by its registered port, whatever carries it here.
    let host = process.addresses.mqtt.map_or(Ipv4Addr::LOCALHOST.into(), |address| address.ip());
    let file = pcapng::write(&ladder.after(0, usize::MAX), SocketAddr::new(host, 1_883));
    let name = format!("attachment; filename=\"ladder-{number}.pcapng\"");
    let headers = [(header::CONTENT_TYPE, "application/octet-stream".to_owned()), (header::CONTENT_DISPOSITION, name)];
    Ok((headers, Bytes::from(file)).into_response())
}
