//! Setups of the desk, kept for everyone who works at it.
use std::sync::Arc;

use axum::{Extension, Json, extract::State, http::StatusCode};
use moorfall_broker::broker::Broker;
use moorfall_contract::desk::DeskSetupView;
use moorfall_core::shown::bytes;
use moorfall_store::DeskSetup;
use serde_json::Value;

use crate::{
    http::{
        operator::Operator,
        problem::{Body, Fault},
        reading::Path,
        responses::{Conflict, NotFound},
    },
    work::orders::wrong,
};

/// Setups that are kept.
const SETUPS: i64 = 200;

/// The largest setup, bytes of JSON.
const SETUP_BYTES: usize = 64 * 1024;

fn view(DeskSetup { name, clients, changed_by, changed_at }: DeskSetup) -> DeskSetupView {
    DeskSetupView { name, clients, changed_by, changed_at }
}

/// List setups
#[utoipa::path(get, operation_id = "list_desk_setups", path = "/desk/setups", tag = "desk", responses(
    (status = 200, body = Vec<DeskSetupView>),
))]
pub async fn list(State(broker): State<Arc<Broker>>) -> Result<Json<Vec<DeskSetupView>>, Fault> {
    Ok(Json(broker.store().desk_setups().await?.into_iter().map(view).collect()))
}

/// Save a setup
///
/// Replaces one of the same name.
#[utoipa::path(put, operation_id = "put_desk_setup", path = "/desk/setups/{name}", tag = "desk", params(("name" = String, Path)), request_body = Value, responses(
    (status = 200, body = DeskSetupView),
    Conflict,
))]
pub async fn put(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Path(name): Path<String>,
    Body(clients): Body<Value>,
) -> Result<Json<DeskSetupView>, Fault> {
    let name = name.trim();
    if name.is_empty() || name.chars().count() > 100 || name.chars().any(char::is_control) {
        return Err(wrong("The name of a setup has 1 to 100 characters.".into()));
    }
    if clients.to_string().len() > SETUP_BYTES {
        return Err(wrong(format!("A setup has at most {} of JSON.", bytes(SETUP_BYTES as f64))));
    }
    let put = broker.store().put_desk_setup(name, &clients, SETUPS, &operator.author()).await?;
    let put = put.ok_or_else(|| {
        let detail = format!("The limit of {SETUPS} setups is reached. Delete one first.");
        Fault::new(StatusCode::CONFLICT, "Too many setups", detail)
    })?;
    Ok(Json(view(put)))
}

/// Delete a setup
#[utoipa::path(delete, operation_id = "remove_desk_setup", path = "/desk/setups/{name}", tag = "desk", params(("name" = String, Path)), responses(
    (status = 204, description = "Removed"),
    NotFound,
))]
pub async fn remove(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Path(name): Path<String>,
) -> Result<StatusCode, Fault> {
    if !broker.store().remove_desk_setup(&name, &operator.author()).await? {
        let detail = format!("There is no setup \"{name}\". GET /api/v1/desk/setups lists all.");
        return Err(Fault::new(StatusCode::NOT_FOUND, "Setup not found", detail));
    }
    Ok(StatusCode::NO_CONTENT)
}
