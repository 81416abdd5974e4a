//! Authorities that sign client certificates.
use std::sync::Arc;

use axum::{Extension, Json, extract::State, http::StatusCode};
use moorfall_broker::{
    broker::Broker,
    identity::authorities::{AuthorityError, certificates},
    listeners::trust::trust,
};
use moorfall_contract::identities::AuthorityView;
use moorfall_core::certificate::ClientCertificate;
use moorfall_store::{AuthorityRecord, Deed};
use serde::Deserialize;
use serde_json::json;
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::{
    http::{
        operator::Operator,
        problem::{Body, Fault},
        reading::Path,
        responses::{Conflict, NotFound},
    },
    state::{App, Process},
};

fn view_of(record: &AuthorityRecord) -> AuthorityView {
    let all = certificates(&record.pem).unwrap_or_default();
    let read: Vec<_> = all.iter().filter_map(|der| ClientCertificate::read(der)).collect();
    let of = |kind: &str| {
        let matches = read.first().into_iter().flat_map(|first| &first.matches);
        matches.filter_map(|one| one.strip_prefix(kind)).next().unwrap_or_default().to_owned()
    };
    AuthorityView {
        name: record.name.clone(),
        subject: of("subject:"),
        fingerprint: of("sha256:"),
        certificates: all.len() as u64,
        ends: read.iter().map(|certificate| certificate.ends).min().unwrap_or(OffsetDateTime::UNIX_EPOCH),
        added_at: record.added_at,
    }
}

/// An authority to be trusted.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AuthorityDraft {
    /// What to call it.
    name: String,
    /// Its certificates in PEM form.
    pem: String,
}

/// List authorities
///
/// By name. Listeners that use client certificates and name no authorities of their own trust these.
#[utoipa::path(get, operation_id = "list_authorities", path = "/authorities", tag = "identities", responses(
    (status = 200, body = Vec<AuthorityView>),
))]
pub async fn list(State(broker): State<Arc<Broker>>) -> Json<Vec<AuthorityView>> {
    Json(broker.identities.authorities.list().iter().map(|authority| view_of(authority)).collect())
}

/// Add an authority
///
/// It is trusted from the next connection on.
#[utoipa::path(post, operation_id = "add_authority", path = "/authorities", tag = "identities", request_body = AuthorityDraft, responses(
    (status = 201, body = AuthorityView),
    Conflict,
))]
pub async fn add(
    State(App { broker, process, .. }): State<App>,
    Extension(operator): Extension<Operator>,
    Body(AuthorityDraft { name, pem }): Body<AuthorityDraft>,
) -> Result<(StatusCode, Json<AuthorityView>), Fault> {
    let deed = |record: &AuthorityRecord| Deed {
        after: Some(json!(view_of(record))),
        ..Deed::new("add", "authority", &*name)
    };
    let added =
        broker.identities.authorities.add(&name, &pem, &operator.author(), deed).await.map_err(
            |error| match error {
                AuthorityError::Unusable(fault) => {
                    Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "Invalid authority", fault.to_string())
                }
                AuthorityError::Taken(_) => Fault::new(StatusCode::CONFLICT, "Authority exists", error.to_string()),
                AuthorityError::Store(error) => error.into(),
            },
        )?;
    let failed = in_force(&broker, &process);
    let view = view_of(&added);
    failed.map(|()| (StatusCode::CREATED, Json(view)))
}

/// Remove an authority
///
/// Sessions authenticated with client certificates end; clients of other authorities can connect again.
#[utoipa::path(delete, operation_id = "remove_authority", path = "/authorities/{name}", tag = "identities", params(("name" = String, Path)), responses(
    (status = 204, description = "Removed"),
    NotFound,
))]
pub async fn remove(
    State(App { broker, process, .. }): State<App>,
    Extension(operator): Extension<Operator>,
    Path(name): Path<String>,
) -> Result<StatusCode, Fault> {
    let deed = |record: &AuthorityRecord| Deed {
        before: Some(json!(view_of(record))),
        ..Deed::new("remove", "authority", &*name)
    };
    if !broker.identities.authorities.remove(&name, &operator.author(), deed).await? {
        let detail = format!("There is no authority {name}. GET /api/v1/authorities lists all.");
        return Err(Fault::new(StatusCode::NOT_FOUND, "Authority not found", detail));
    }
    let failed = in_force(&broker, &process);
    broker.end_by_authority();
    failed.map(|()| StatusCode::NO_CONTENT)
}

/// Has all listeners follow; says which can't.
fn in_force(broker: &Broker, process: &Process) -> Result<(), Fault> {
    let failed = trust(&process.listeners, &broker.identities.authorities);
    if failed.is_empty() {
        return Ok(());
    }
    let detail = format!(
        "The change is saved, but {} can't read its own TLS files, and still trusts the previous authorities. Correct \
         the files; the listener then follows within seconds.",
        failed.join(", ")
    );
    Err(Fault::new(StatusCode::INTERNAL_SERVER_ERROR, "Not in force everywhere", detail))
}
