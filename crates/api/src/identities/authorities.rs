//! Authorities that sign client certificates.

use std::sync::Arc;

use axum::{Extension, Json, extract::State, http::StatusCode};
use moorfall_store::{AuthorityRecord, Deed};
use serde::{Deserialize, Serialize};
use serde_json::json;
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::{
    http::{
        operator::Operator,
        problem::{Body, Problem},
        reading::Path,
    },
    state::{App, Process},
};
use moorfall_broker::{
    broker::Broker,
    identity::{
        authorities::{AuthorityError, certificates},
        certificate::ClientCertificate,
    },
    listeners::trust::trust,
};

/// An authority that signs client certificates.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AuthorityView {
    /// What it is called.
    pub name: String,
    /// The subject of its first certificate (RFC 4514).
    pub subject: String,
    /// The SHA-256 fingerprint of its first certificate, in hexadecimal digits.
    pub fingerprint: String,
    /// How many certificates it has.
    pub certificates: u64,
    /// When the first of them to end ends.
    #[serde(with = "time::serde::rfc3339")]
    pub ends: OffsetDateTime,
    /// When it was added.
    #[serde(with = "time::serde::rfc3339")]
    pub added_at: OffsetDateTime,
}

impl From<&AuthorityRecord> for AuthorityView {
    fn from(record: &AuthorityRecord) -> Self {
        let all = certificates(&record.pem).unwrap_or_default();
        let read: Vec<_> = all.iter().filter_map(|der| ClientCertificate::read(der)).collect();
        let mark = |kind: &str| {
            let marks = read.first().into_iter().flat_map(|first| &first.marks);
            marks.filter_map(|mark| mark.strip_prefix(kind)).next().unwrap_or_default().to_owned()
        };
        Self {
            name: record.name.clone(),
            subject: mark("subject:"),
            fingerprint: mark("sha256:"),
            certificates: all.len() as u64,
            ends: read.iter().map(|certificate| certificate.ends).min().unwrap_or(OffsetDateTime::UNIX_EPOCH),
            added_at: record.added_at,
        }
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

/// The authorities that were given to the service, by name. Listeners that ask for client certificates and name no
/// authority of their own trust them.
#[utoipa::path(get, operation_id = "list_authorities", path = "/authorities", tag = "identities", responses(
    (status = 200, body = Vec<AuthorityView>),
    (status = 401, body = Problem, content_type = "application/problem+json"),
))]
pub async fn list(State(broker): State<Arc<Broker>>) -> Json<Vec<AuthorityView>> {
    Json(broker.identities.authorities.list().iter().map(|authority| (&**authority).into()).collect())
}

/// Trust an authority, from the next connection on.
#[utoipa::path(post, operation_id = "add_authority", path = "/authorities", tag = "identities", request_body = AuthorityDraft, responses(
    (status = 201, body = AuthorityView),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
))]
pub async fn add(
    State(App { broker, process, .. }): State<App>,
    Extension(operator): Extension<Operator>,
    Body(AuthorityDraft { name, pem }): Body<AuthorityDraft>,
) -> Result<(StatusCode, Json<AuthorityView>), Problem> {
    let deed = |record: &AuthorityRecord| Deed {
        after: Some(json!(AuthorityView::from(record))),
        ..Deed::new("add", "authority", &*name)
    };
    let added =
        broker.identities.authorities.add(&name, &pem, &operator.author(), deed).await.map_err(
            |error| match error {
                AuthorityError::Unusable(words) => {
                    Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "authority not acceptable", words)
                }
                AuthorityError::Taken(_) => Problem::new(StatusCode::CONFLICT, "authority exists", error.to_string()),
                AuthorityError::Store(error) => error.into(),
            },
        )?;
    let failed = in_force(&broker, &process);
    let view = AuthorityView::from(&*added);
    failed.map(|()| (StatusCode::CREATED, Json(view)))
}

/// Trust an authority no more. Sessions whose clients have shown a certificate end; those whose certificates another
/// authority has signed are let in again.
#[utoipa::path(delete, operation_id = "remove_authority", path = "/authorities/{name}", tag = "identities", params(("name" = String, Path)), responses(
    (status = 204, description = "Removed"),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub async fn remove(
    State(App { broker, process, .. }): State<App>,
    Extension(operator): Extension<Operator>,
    Path(name): Path<String>,
) -> Result<StatusCode, Problem> {
    let deed = |record: &AuthorityRecord| Deed {
        before: Some(json!(AuthorityView::from(record))),
        ..Deed::new("remove", "authority", &*name)
    };
    if !broker.identities.authorities.remove(&name, &operator.author(), deed).await? {
        let detail = format!("there is no authority {name}; /api/v1/authorities lists all");
        return Err(Problem::new(StatusCode::NOT_FOUND, "no such authority", detail));
    }
    let failed = in_force(&broker, &process);
    broker.end_by_authority();
    failed.map(|()| StatusCode::NO_CONTENT)
}

/// Has all listeners follow; says which can't.
fn in_force(broker: &Broker, process: &Process) -> Result<(), Problem> {
    let failed = trust(&process.listeners, &broker.identities.authorities);
    if failed.is_empty() {
        return Ok(());
    }
    let detail = format!(
        "the change is kept, but {} can't read the files of its own TLS and goes on trusting whom it did; mend the files, \
         and it follows within seconds",
        failed.join(", ")
    );
    Err(Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "not in force everywhere", detail))
}
