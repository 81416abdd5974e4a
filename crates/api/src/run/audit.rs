//! Who changed what.

use crate::http::{
    problem::Problem,
    reading::{Limit, Query},
};
use axum::{Json, extract::State};
use moorfall_broker::broker::Broker;
use moorfall_store::AuditRecord;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::sync::Arc;
use time::OffsetDateTime;
use utoipa::{IntoParams, ToSchema};

/// A change that was made.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct AuditView {
    /// Its place in the order of changes.
    pub id: i64,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// Who.
    pub person: String,
    /// From which address.
    pub address: String,
    /// What was done.
    pub act: String,
    /// To what kind of thing.
    pub kind: String,
    /// To which.
    pub name: String,
    /// How it was; null if it was not there.
    pub before: Option<Value>,
    /// How it is; null if it is gone.
    pub after: Option<Value>,
}

impl From<AuditRecord> for AuditView {
    fn from(record: AuditRecord) -> Self {
        let AuditRecord { id, at, person, address, act, kind, name, before, after } = record;
        Self { id, at, person, address, act, kind, name, before, after }
    }
}

/// Which changes are asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Wanted {
    /// Only those that hold this text in who, what or which.
    #[serde(default)]
    search: String,
    /// At most so many.
    #[serde(default)]
    #[param(value_type = u64, default = 200, minimum = 1, maximum = 5_000)]
    limit: Limit<200, 5_000>,
    /// Only those before this one in the order of changes: the last one of the page before.
    #[param(nullable = false)]
    before: Option<i64>,
}

/// What was changed, by whom and from where, newest first.
#[utoipa::path(get, operation_id = "list_audit", path = "/audit", tag = "people", params(Wanted), responses(
    (status = 200, body = Vec<AuditView>),
    (status = 401, body = Problem, content_type = "application/problem+json"),
))]
pub async fn audit(
    State(broker): State<Arc<Broker>>,
    Query(wanted): Query<Wanted>,
) -> Result<Json<Vec<AuditView>>, Problem> {
    let records = broker.store().audits(&wanted.search, wanted.before, wanted.limit.0 as i64).await?;
    Ok(Json(records.into_iter().map(Into::into).collect()))
}
