//! The link between the brokers of the demo, which can be cut.

use std::sync::Arc;

use axum::{Json, extract::State, http::StatusCode};
use moorfall_contract::bridges::DemoLink;

use crate::{
    http::{
        problem::{Body, Fault},
        responses::NotFound,
    },
    state::Process,
};

/// Cut, slow or restore the link of the demo
///
/// Between its two brokers. What is on its way when it is cut is lost, as on any link.
#[utoipa::path(put, operation_id = "set_demo_link", path = "/demo/link", tag = "bridges", request_body = DemoLink, responses(
    (status = 200, body = DemoLink),
    NotFound,
))]
pub async fn set(
    State(process): State<Arc<Process>>,
    Body(DemoLink { state }): Body<DemoLink>,
) -> Result<Json<DemoLink>, Fault> {
    let link = process.weak_link.as_ref().ok_or_else(|| {
        let detail = "Only the demo has a link that can be cut. `moorfall bridge pause` closes that of a bridge.";
        Fault::new(StatusCode::NOT_FOUND, "No such link", detail)
    })?;
    link.set(state);
    Ok(Json(DemoLink { state: link.state() }))
}
