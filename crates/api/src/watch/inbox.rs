//! The inbox of the demo's stand-in for mail servers and web hooks.

use std::sync::Arc;

use axum::{Json, extract::State, http::StatusCode};
use moorfall_contract::inbox::{Faults, InboxView};
use moorfall_links::Inbox;

use crate::{
    http::{
        problem::{Body, Fault},
        responses::NotFound,
    },
    state::Process,
};

fn inbox(process: &Process) -> Result<&Inbox, Fault> {
    process.inbox.as_deref().ok_or_else(|| {
        let detail = "Only the demo has a stand-in with an inbox. GET /api/v1/notices lists what was told of alerts.";
        Fault::new(StatusCode::NOT_FOUND, "No inbox", detail)
    })
}

/// Read the inbox of the demo
///
/// What the stand-in for mail servers and web hooks has received, newest first.
#[utoipa::path(get, operation_id = "show_inbox", path = "/inbox", tag = "alerts", responses(
    (status = 200, body = InboxView),
    NotFound,
))]
pub async fn show(State(process): State<Arc<Process>>) -> Result<Json<InboxView>, Fault> {
    Ok(Json(inbox(&process)?.view()))
}

/// Make the demo's stand-in fail
///
/// It refuses, does not answer, or shows a certificate that nobody trusts, until it is told otherwise.
#[utoipa::path(put, operation_id = "set_faults", path = "/inbox/faults", tag = "alerts", request_body = Faults, responses(
    (status = 200, body = InboxView),
    NotFound,
))]
pub async fn set_faults(
    State(process): State<Arc<Process>>,
    Body(faults): Body<Faults>,
) -> Result<Json<InboxView>, Fault> {
    let inbox = inbox(&process)?;
    inbox.set_faults(faults);
    Ok(Json(inbox.view()))
}
