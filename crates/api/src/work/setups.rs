//! Set-ups of the bench, kept for everyone who works at it.

use std::sync::Arc;

use axum::{Extension, Json, extract::State, http::StatusCode};
use moorfall_store::BenchSetup;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::{
    http::{
        operator::Operator,
        problem::{Body, Problem},
        reading::Path,
    },
    work::orders::wrong,
};
use moorfall_broker::broker::Broker;

/// Set-ups that are kept.
const SETUPS: i64 = 200;

/// The largest set-up, bytes of JSON.
const SETUP_BYTES: usize = 64 * 1024;

/// A set-up of the bench.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BenchSetupView {
    /// Its name.
    pub name: String,
    /// Which clients stand on the bench, and what they do: as the console wrote it.
    pub panes: Value,
    /// Who kept it last.
    pub changed_by: String,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub changed_at: OffsetDateTime,
}

impl From<BenchSetup> for BenchSetupView {
    fn from(BenchSetup { name, panes, changed_by, changed_at }: BenchSetup) -> Self {
        Self { name, panes, changed_by, changed_at }
    }
}

/// All set-ups of the bench.
#[utoipa::path(get, operation_id = "list_bench_setups", path = "/bench/setups", tag = "bench", responses(
    (status = 200, body = Vec<BenchSetupView>),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
))]
pub async fn list(State(broker): State<Arc<Broker>>) -> Result<Json<Vec<BenchSetupView>>, Problem> {
    Ok(Json(broker.store().bench_setups().await?.into_iter().map(Into::into).collect()))
}

/// Keep a set-up of the bench, in place of one of the same name.
#[utoipa::path(put, operation_id = "put_bench_setup", path = "/bench/setups/{name}", tag = "bench", params(("name" = String, Path)), request_body = Value, responses(
    (status = 200, body = BenchSetupView),
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
) -> Result<Json<BenchSetupView>, Problem> {
    let name = name.trim();
    if name.is_empty() || name.chars().count() > 100 || name.chars().any(char::is_control) {
        return Err(wrong("a set-up has a name of 1 to 100 characters".into()));
    }
    if panes.to_string().len() > SETUP_BYTES {
        return Err(wrong(format!("a set-up has {SETUP_BYTES} bytes of JSON at most")));
    }
    let put = broker.store().put_bench_setup(name, &panes, SETUPS, &operator.author()).await?;
    let put = put.ok_or_else(|| {
        let detail = format!("there are {SETUPS} set-ups, as many as may be; remove one");
        Problem::new(StatusCode::CONFLICT, "too many set-ups", detail)
    })?;
    Ok(Json(put.into()))
}

/// Forget a set-up of the bench.
#[utoipa::path(delete, operation_id = "remove_bench_setup", path = "/bench/setups/{name}", tag = "bench", params(("name" = String, Path)), responses(
    (status = 204, description = "Removed"),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub async fn remove(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Path(name): Path<String>,
) -> Result<StatusCode, Problem> {
    if !broker.store().remove_bench_setup(&name, &operator.author()).await? {
        let detail = format!("there is no set-up {name}; /api/v1/bench/setups lists all");
        return Err(Problem::new(StatusCode::NOT_FOUND, "no such set-up", detail));
    }
    Ok(StatusCode::NO_CONTENT)
}
