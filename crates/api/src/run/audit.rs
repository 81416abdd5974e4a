//! Who changed what.
use std::sync::Arc;

use axum::{Json, extract::State};
use moorfall_broker::broker::Broker;
use moorfall_contract::people::AuditView;
use moorfall_store::AuditRecord;
use serde::Deserialize;
use utoipa::IntoParams;

use crate::http::{
    problem::Fault,
    reading::{Limit, Query},
};

fn view(record: AuditRecord) -> AuditView {
    let AuditRecord { id, at, person, address, act, kind, name, before, after } = record;
    AuditView { id, at, person, address, act, kind, name, before, after }
}

/// Which changes are asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Wanted {
    /// Only those that hold this text in who, what or which.
    #[serde(default)]
    search: String,
    /// The largest number returned.
    #[serde(default)]
    #[param(value_type = u64, default = 200, minimum = 1, maximum = 5_000)]
    limit: Limit<200, 5_000>,
    /// Only those before this one in the order of changes: the last one of the page before.
    #[param(nullable = false)]
    before: Option<i64>,
}

/// List changes
///
/// Who made them, when and from where; newest first.
#[utoipa::path(get, operation_id = "list_audit", path = "/audit", tag = "people", params(Wanted), responses(
    (status = 200, body = Vec<AuditView>),
))]
pub async fn audit(
    State(broker): State<Arc<Broker>>,
    Query(wanted): Query<Wanted>,
) -> Result<Json<Vec<AuditView>>, Fault> {
    let records = broker.store().audits(&wanted.search, wanted.before, wanted.limit.0 as i64).await?;
    Ok(Json(records.into_iter().map(view).collect()))
}
