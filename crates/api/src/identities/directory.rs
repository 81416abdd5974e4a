//! Who may connect.
use std::sync::Arc;

use axum::{Extension, Json, extract::State, http::StatusCode};
use moorfall_broker::broker::Broker;
use moorfall_contract::identities::{
    IdentityDraft, IdentityImport, IdentityPut, IdentityView, ImportEffect, ImportFault, ImportResult, MadeSecret,
};
use serde::Deserialize;
use utoipa::{IntoParams, ToSchema};

use crate::http::{
    apart::apart,
    operator::Operator,
    problem::{Body, Fault},
    reading::{Limit, Page, Path, Query, encoded},
    responses::NotFound,
};

/// Which identities are asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Wanted {
    /// Only those whose name, note or an attribute, as `reach=gorge`, holds this text.
    #[serde(default)]
    search: String,
    /// Only those behind this name: the last one of the page before.
    #[param(nullable = false)]
    after: Option<String>,
    /// The largest number returned.
    #[serde(default)]
    #[param(value_type = u64, default = 1_000, minimum = 1, maximum = 10_000)]
    limit: Limit<1_000, 10_000>,
}

/// List identities
///
/// By name.
#[utoipa::path(get, operation_id = "list_identities", path = "/identities", tag = "identities", params(Wanted), responses(
    (status = 200, body = Vec<IdentityView>),
))]
pub async fn list(State(broker): State<Arc<Broker>>, Query(wanted): Query<Wanted>) -> Page {
    apart(move || {
        let Wanted { search, after, limit } = wanted;
        // One more tells that there are more.
        let found = broker.identities.directory.list(&search, after.as_deref(), limit.0 + 1);
        Page::of(found, limit.0, |_, last| {
            format!("search={}&after={}&limit={}", encoded(&search), encoded(&last.name), limit.0)
        })
    })
    .await
}

/// Get an identity
#[utoipa::path(get, operation_id = "show_identity", path = "/identities/{name}", tag = "identities", params(("name" = String, Path)), responses(
    (status = 200, body = IdentityView),
    NotFound,
))]
pub async fn show(State(broker): State<Arc<Broker>>, Path(name): Path<String>) -> Result<Json<IdentityView>, Fault> {
    broker.identities.directory.get(&name).map(Json).ok_or_else(|| unknown(&name))
}

/// Create or replace an identity
///
/// Its sessions end if their credentials have changed.
#[utoipa::path(put, operation_id = "put_identity", path = "/identities/{name}", tag = "identities", params(("name" = String, Path)),
    request_body = IdentityDraft, responses(
    (status = 200, body = IdentityPut),
))]
pub async fn put(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Path(name): Path<String>,
    Body(draft): Body<IdentityDraft>,
) -> Result<Json<IdentityPut>, Fault> {
    let (view, secret) = broker.put_identity(&name, draft, &operator.author()).await?;
    Ok(Json(IdentityPut { identity: view, secret }))
}

/// Identities to be made or replaced.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Import {
    /// At most 5,000 at a time.
    identities: Vec<IdentityImport>,
    /// Only say what would be done.
    #[serde(default)]
    dry_run: bool,
}

/// The most identities of one import.
const IMPORTED: usize = 5_000;

/// Create or replace many identities
///
/// All or none.
#[utoipa::path(post, operation_id = "import_identities", path = "/identities", tag = "identities", request_body = Import, responses(
    (status = 200, body = ImportResult),
))]
pub async fn import(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Body(Import { identities, dry_run }): Body<Import>,
) -> Result<Json<ImportResult>, Fault> {
    if identities.len() > IMPORTED {
        let detail = format!("The request has {} identities; the limit is {IMPORTED} at a time.", identities.len());
        return Err(Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "Too many identities", detail));
    }
    let faults = broker.identities.directory.check_many(&identities).into_iter();
    let faults: Vec<_> =
        faults.map(|(place, fault)| ImportFault { place: place as u64, explanation: fault.to_string() }).collect();
    let effects = broker.identities.directory.foresee(&identities);
    let number = |wanted: ImportEffect| effects.iter().filter(|effect| **effect == wanted).count() as u64;
    let (made, changed, unchanged) =
        (number(ImportEffect::Made), number(ImportEffect::Changed), number(ImportEffect::Unchanged));
    let mut result = ImportResult { made, changed, unchanged, faults, secrets: Vec::new() };
    if dry_run || !result.faults.is_empty() {
        return Ok(Json(result));
    }
    let touched: Vec<_> = identities
        .into_iter()
        .zip(effects)
        .filter(|(_, effect)| *effect != ImportEffect::Unchanged)
        .map(|(identity, _)| identity)
        .collect();
    if !touched.is_empty() {
        let secrets = broker.put_identities(&touched, &operator.author()).await?;
        result.secrets = secrets.into_iter().map(|(name, secret)| MadeSecret { name, secret }).collect();
    }
    Ok(Json(result))
}

/// Remove an identity
///
/// Its sessions end.
#[utoipa::path(delete, operation_id = "remove_identity", path = "/identities/{name}", tag = "identities", params(("name" = String, Path)), responses(
    (status = 204, description = "Removed"),
    NotFound,
))]
pub async fn remove(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Path(name): Path<String>,
) -> Result<StatusCode, Fault> {
    if !broker.remove_identity(&name, &operator.author()).await? {
        return Err(unknown(&name));
    }
    Ok(StatusCode::NO_CONTENT)
}

fn unknown(name: &str) -> Fault {
    let detail = format!("There is no identity {name}. GET /api/v1/identities lists all.");
    Fault::new(StatusCode::NOT_FOUND, "Identity not found", detail)
}
