//! Set-ups of the desk, kept for everyone who works at it.
use std::sync::Arc;

use axum::{Extension, Json, extract::State, http::StatusCode};
use moorfall_broker::broker::Broker;
use moorfall_contract::{desk::DeskSetupView, problem::Problem};
use moorfall_store::DeskSetup;
use serde_json::Value;

use crate::{
    http::{
        operator::Operator,
        problem::{Body, Fault},
        reading::Path,
    },
    work::orders::wrong,
};

/// Set-ups that are kept.
const SETUPS: i64 = 200;

/// The largest set-up, bytes of JSON.
const SETUP_BYTES: usize = 64 * 1024;

fn view(DeskSetup { name, panes, changed_by, changed_at }: DeskSetup) -> DeskSetupView {
    DeskSetupView { name, panes, changed_by, changed_at }
}

/// All set-ups of the desk.
#[utoipa::path(get, operation_id = "list_desk_setups", path = "/desk/setups", tag = "desk", responses(
    (status = 200, body = Vec<DeskSetupView>),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
))]
pub async fn list(State(broker): State<Arc<Broker>>) -> Result<Json<Vec<DeskSetupView>>, Fault> {
    Ok(Json(broker.store().desk_setups().await?.into_iter().map(view).collect()))
}

/// Keep a set-up of the desk, in place of one of the same name.
#[utoipa::path(put, operation_id = "put_desk_setup", path = "/desk/setups/{name}", tag = "desk", params(("name" = String, Path)), request_body = Value, responses(
    (status = 200, body = DeskSetupView),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
))]
pub async fn put(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Path(name): Path<String>,
    Body(panes): Body<Value>,
) -> Result<Json<DeskSetupView>, Fault> {
    let name = name.trim();
    if name.is_empty() || name.chars().count() > 100 || name.chars().any(char::is_control) {
        return Err(wrong("a set-up has a name of 1 to 100 characters".into()));
    }
    if panes.to_string().len() > SETUP_BYTES {
        return Err(wrong(format!("a set-up has {SETUP_BYTES} bytes of JSON at most")));
    }
    let put = broker.store().put_desk_setup(name, &panes, SETUPS, &operator.author()).await?;
    let put = put.ok_or_else(|| {
        let detail = format!("there are {SETUPS} set-ups, as many as may be; remove one");
        Fault::new(StatusCode::CONFLICT, "too many set-ups", detail)
    })?;
    Ok(Json(view(put)))
}

/// Forget a set-up of the desk.
#[utoipa::path(delete, operation_id = "remove_desk_setup", path = "/desk/setups/{name}", tag = "desk", params(("name" = String, Path)), responses(
    (status = 204, description = "Removed"),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub async fn remove(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Path(name): Path<String>,
) -> Result<StatusCode, Fault> {
    if !broker.store().remove_desk_setup(&name, &operator.author()).await? {
        let detail = format!("there is no set-up {name}; /api/v1/desk/setups lists all");
        return Err(Fault::new(StatusCode::NOT_FOUND, "no such set-up", detail));
    }
    Ok(StatusCode::NO_CONTENT)
}
