//! What watches over the service asks: whether it lives, whether clients can be sent to it, and what it measures.

use std::sync::Arc;

use axum::{
    Json,
    extract::{ConnectInfo, State},
    http::{HeaderMap, StatusCode, header},
    response::{IntoResponse, Response},
};
use moorfall_contract::health::{Readiness, Reason, ReasonKind};
use sha2::{Digest, Sha256};

use super::exposition::{self, CLASSIC, OPEN_METRICS};
use crate::{
    http::problem::Fault,
    state::{App, Scrapers},
};

/// Whether the process answers at all.
pub async fn live() -> Json<serde_json::Value> {
    Json(serde_json::json!({ "live": true }))
}

/// Whether clients can be sent here, and why not.
pub async fn ready(State(app): State<App>) -> (StatusCode, Json<Readiness>) {
    let readiness = readiness(&app);
    let status = if readiness.ready { StatusCode::OK } else { StatusCode::SERVICE_UNAVAILABLE };
    (status, Json(readiness))
}

fn readiness(App { broker, process, .. }: &App) -> Readiness {
    let mut reasons = Vec::new();
    let mut wrong = |kind, explanation: String| reasons.push(Reason { kind, explanation });
    if broker.common.stopping.is_cancelled() {
        wrong(ReasonKind::Stopping, "The service is stopping.".into());
    }
    if let Some(trouble) = broker.common.database.trouble() {
        let meanwhile = "QoS 1 and 2 messages for persistent sessions wait to be acknowledged until it is back.";
        wrong(ReasonKind::DatabaseAway, format!("The database is unavailable: {trouble} {meanwhile}"));
    }
    let (taken, most) = (process.reception.seats.taken(), broker.limits.connections);
    if taken >= most {
        let full = format!("{taken} of {most} connections are taken. Raise `connections` in `[limits]`.");
        wrong(ReasonKind::ConnectionsFull, full);
    }
    Readiness { ready: reasons.is_empty(), reasons }
}

/// All measures, as text for machines.
pub async fn metrics(
    State(App { process, watch, .. }): State<App>,
    ConnectInfo(address): ConnectInfo<std::net::SocketAddr>,
    headers: HeaderMap,
) -> Result<Response, Fault> {
    match &process.scrapers {
        Scrapers::Nobody => {
            let detail = "The page is off. `page` in `[readings]` of moorfall.toml turns it on.";
            return Err(Fault::new(StatusCode::NOT_FOUND, "Not found", detail));
        }
        Scrapers::Loopback if !address.ip().to_canonical().is_loopback() => {
            let detail =
                "The page is for programs on the same machine. `page = \"token\"` in `[readings]` lets others in.";
            return Err(Fault::new(StatusCode::FORBIDDEN, "Not allowed from this address", detail));
        }
        Scrapers::Token(hash) if !bears(&headers, hash) => {
            let detail = "The page needs the token of `token-file` in `[readings]`, as a bearer token.";
            return Err(Fault::new(StatusCode::UNAUTHORIZED, "Token missing or wrong", detail));
        }
        Scrapers::Loopback | Scrapers::Token(_) => {}
    }
    let listeners = process.listeners.iter().chain([&process.http_listener]);
    let page = exposition::open_metrics(&watch, listeners.map(Arc::as_ref));
    Ok(match accepts_open_metrics(&headers) {
        true => ([(header::CONTENT_TYPE, OPEN_METRICS)], page).into_response(),
        false => ([(header::CONTENT_TYPE, CLASSIC)], exposition::classic(&page)).into_response(),
    })
}

/// Whether a request has this token. What is compared are hashes, so that the time it takes tells nothing of the token.
fn bears(headers: &HeaderMap, hash: &[u8; 32]) -> bool {
    let token = headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok()?.strip_prefix("Bearer "));
    token.is_some_and(|token| <[u8; 32]>::from(Sha256::digest(token.trim().as_bytes())) == *hash)
}

fn accepts_open_metrics(headers: &HeaderMap) -> bool {
    let accepted = headers.get_all(header::ACCEPT).iter().filter_map(|value| value.to_str().ok());
    accepted.flat_map(|value| value.split(',')).any(|one| one.trim().starts_with("application/openmetrics-text"))
}
