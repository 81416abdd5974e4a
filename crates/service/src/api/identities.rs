//! Who may connect.

use std::sync::Arc;

use axum::{
    Extension, Json,
    extract::{Path, State},
    http::StatusCode,
};

use serde_json::json;

use super::{
    operator::Operator,
    problem::{Body, Problem},
};
use crate::{
    broker::Broker,
    directory::{IdentityDraft, IdentityView},
};

/// All identities, by name.
#[utoipa::path(get, operation_id = "list_identities", path = "/identities", tag = "identities", responses(
    (status = 200, body = Vec<IdentityView>),
    (status = 401, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn list(State(broker): State<Arc<Broker>>) -> Json<Vec<IdentityView>> {
    Json(broker.directory.list())
}

/// One identity.
#[utoipa::path(get, operation_id = "show_identity", path = "/identities/{name}", tag = "identities", params(("name" = String, Path)), responses(
    (status = 200, body = IdentityView),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn show(
    State(broker): State<Arc<Broker>>,
    Path(name): Path<String>,
) -> Result<Json<IdentityView>, Problem> {
    broker.directory.get(&name).map(Json).ok_or_else(|| unknown(&name))
}

/// Make or replace an identity. Its live sessions end when what they rest on has changed.
#[utoipa::path(put, operation_id = "put_identity", path = "/identities/{name}", tag = "identities", params(("name" = String, Path)),
    request_body = IdentityDraft, responses(
    (status = 200, body = IdentityView),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn put(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Path(name): Path<String>,
    Body(draft): Body<IdentityDraft>,
) -> Result<Json<IdentityView>, Problem> {
    let before = broker.directory.get(&name).map(|view| json!(view));
    let new_password = draft.password.is_some();
    let view = broker.put_identity(&name, draft).await?;
    let mut after = json!(view);
    after["new_password"] = new_password.into();
    operator.note(&broker, "put", "identity", &name, before, Some(after)).await;
    Ok(Json(view))
}

/// Remove an identity and end its sessions.
#[utoipa::path(delete, operation_id = "remove_identity", path = "/identities/{name}", tag = "identities", params(("name" = String, Path)), responses(
    (status = 204, description = "Removed"),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn remove(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Path(name): Path<String>,
) -> Result<StatusCode, Problem> {
    let before = broker.directory.get(&name).map(|view| json!(view));
    if !broker.remove_identity(&name).await? {
        return Err(unknown(&name));
    }
    operator.note(&broker, "remove", "identity", &name, before, None).await;
    Ok(StatusCode::NO_CONTENT)
}

fn unknown(name: &str) -> Problem {
    let detail = format!("there is no identity {name}; /api/v1/identities lists all");
    Problem::new(StatusCode::NOT_FOUND, "no such identity", detail)
}
