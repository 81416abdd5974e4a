//! The design: checking, comparing, applying and taking back.

use std::sync::Arc;

use axum::{
    Extension, Json,
    extract::State,
    http::{StatusCode, header},
    response::{IntoResponse, Response},
};
use moorfall_broker::{
    broker::Broker,
    design::draft::{Checked, Draft, NotApplied},
    listeners::gatekeeper::Held,
};
use moorfall_contract::{
    blueprint_files::BLUEPRINT_SCHEMA,
    design::{
        Application, BlueprintDraft, BlueprintFile, Check, Comparison, FindingView, ProofView, Reversion, RevisionView,
    },
};
use moorfall_core::blueprint::SourceFile;
use moorfall_store::RevisionRecord;

use crate::{
    http::{
        operator::Operator,
        problem::{Body, Fault},
        reading::Path,
        responses::{Conflict, NotFound, TooMany},
    },
    state::{App, People},
};

/// Revisions that are listed.
const LISTED: i64 = 1_000;

fn sources(files: Vec<BlueprintFile>) -> Vec<SourceFile> {
    files.into_iter().map(Into::into).collect()
}

fn check_view(checked: &Checked) -> Check {
    Check {
        ready: checked.is_ready(),
        findings: checked.findings.iter().map(FindingView::from).collect(),
        proofs: checked.proofs.iter().map(ProofView::from).collect(),
    }
}

fn view(record: RevisionRecord, in_force: i64) -> RevisionView {
    let files = record.files.0.iter().map(Into::into).collect();
    let RevisionRecord { number, applied_at, author, message, .. } = record;
    RevisionView { number, in_force: number == in_force, applied_at, author, message, files }
}

fn unknown(number: i64) -> Fault {
    Fault::new(StatusCode::NOT_FOUND, "Revision not found", format!("There is no revision {number}."))
}

/// Why a design was not applied, for whoever asked.
pub struct Refused(NotApplied);

impl From<NotApplied> for Refused {
    fn from(why: NotApplied) -> Self {
        Self(why)
    }
}

impl IntoResponse for Refused {
    fn into_response(self) -> Response {
        match self.0 {
            NotApplied::NotReady(checked) => {
                (StatusCode::UNPROCESSABLE_ENTITY, Json(check_view(&checked))).into_response()
            }
            NotApplied::Overtaken(revision) => {
                let detail = format!(
                    "Nothing was applied. Revision {revision} is in force now, and your draft is based on an earlier \
                     one. Compare your draft with revision {revision}, then apply it with `--base {revision}`."
                );
                Fault::new(StatusCode::CONFLICT, "Another revision is in force", detail).into_response()
            }
            NotApplied::Unknown(number) => unknown(number).into_response(),
            NotApplied::Store(error) => Fault::from(error).into_response(),
        }
    }
}

/// Check a blueprint
///
/// Its proofs are checked against the identities that exist.
#[utoipa::path(post, operation_id = "check_blueprint", path = "/blueprint/check", tag = "design", request_body = BlueprintDraft, responses(
    (status = 200, body = Check),
    TooMany,
))]
pub async fn check(
    State(App { broker, people, .. }): State<App>,
    Extension(operator): Extension<Operator>,
    Body(draft): Body<BlueprintDraft>,
) -> Result<Json<Check>, Fault> {
    let _one_at_a_time = one_check(&people, &operator)?;
    Ok(Json(check_view(&broker.check_apart(sources(draft.files)).await)))
}

/// A check takes a core for as long as it lasts, so everyone has one at a time.
fn one_check(people: &People, operator: &Operator) -> Result<Held<Arc<str>>, Fault> {
    people.checks.take(Arc::clone(&operator.name), 1, usize::MAX).ok_or_else(|| {
        let detail = format!("Another check by {} is running. Wait for its result.", operator.name);
        Fault::new(StatusCode::TOO_MANY_REQUESTS, "One check at a time", detail)
    })
}

/// Compare a blueprint with the one in force
///
/// What it changes, and its effects on live sessions and messages. Nothing is changed.
#[utoipa::path(post, operation_id = "compare_blueprint", path = "/blueprint/compare", tag = "design", request_body = BlueprintDraft, responses(
    (status = 200, body = Comparison),
    TooMany,
))]
pub async fn compare(
    State(App { broker, people, .. }): State<App>,
    Extension(operator): Extension<Operator>,
    Body(draft): Body<BlueprintDraft>,
) -> Result<Json<Comparison>, Fault> {
    let _one_at_a_time = one_check(&people, &operator)?;
    let base = broker.design.in_force().revision;
    let checked = broker.check_apart(sources(draft.files)).await;
    let (changes, effects) = match checked.policy.clone() {
        None => Default::default(),
        Some(policy) => tokio::task::spawn_blocking(move || broker.compare_design(&policy))
            .await
            .expect("comparing does not panic, and is not cancelled"),
    };
    let changes = changes.iter().map(Into::into).collect();
    Ok(Json(Comparison { base, check: check_view(&checked), changes, effects }))
}

/// Apply a blueprint
///
/// It is refused, with its check, if it has errors or a proof fails.
#[utoipa::path(post, operation_id = "apply_blueprint", path = "/blueprint/revisions", tag = "design", request_body = Application, responses(
    (status = 201, body = RevisionView),
    Conflict,
    (status = 422, body = Check),
))]
pub async fn apply(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Body(application): Body<Application>,
) -> Result<impl IntoResponse, Refused> {
    let Application { files, base, message } = application;
    let draft = Draft { files: sources(files), base, act: "apply", by: operator.author(), message };
    let record = broker.apply_design(draft, false).await?;
    let number = record.number;
    Ok((StatusCode::CREATED, Json(view(record, number))))
}

/// Revert to an earlier revision
///
/// It becomes a new revision.
#[utoipa::path(post, operation_id = "revert_blueprint", path = "/blueprint/revisions/{number}/revert", tag = "design",
    params(("number" = i64, Path)), request_body = Reversion, responses(
    (status = 201, body = RevisionView),
    NotFound,
    Conflict,
    (status = 422, body = Check),
))]
pub async fn revert(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Path(number): Path<i64>,
    Body(reversion): Body<Reversion>,
) -> Result<impl IntoResponse, Refused> {
    let Reversion { base, message } = reversion;
    let record = broker.revert_design(number, base, operator.author(), message).await?;
    let number = record.number;
    Ok((StatusCode::CREATED, Json(view(record, number))))
}

/// List revisions
///
/// Newest first, without their files.
#[utoipa::path(get, operation_id = "list_revisions", path = "/blueprint/revisions", tag = "design", responses(
    (status = 200, body = Vec<RevisionView>),
))]
pub async fn list(State(broker): State<Arc<Broker>>) -> Result<Json<Vec<RevisionView>>, Fault> {
    let records = broker.store().revisions(LISTED).await?;
    let in_force = broker.design.in_force().revision;
    Ok(Json(records.into_iter().map(|record| view(record, in_force)).collect()))
}

/// Get a revision with its files
#[utoipa::path(get, operation_id = "show_revision", path = "/blueprint/revisions/{number}", tag = "design", params(("number" = i64, Path)), responses(
    (status = 200, body = RevisionView),
    NotFound,
))]
pub async fn show(State(broker): State<Arc<Broker>>, Path(number): Path<i64>) -> Result<Json<RevisionView>, Fault> {
    let record = broker.store().revision(number).await?;
    let in_force = broker.design.in_force().revision;
    record.map(|record| Json(view(record, in_force))).ok_or_else(|| unknown(number))
}

/// Get the JSON Schema of blueprint files
///
/// For editors.
#[utoipa::path(get, operation_id = "blueprint_schema", path = "/blueprint/schema", tag = "design", responses(
    (status = 200, description = "The schema", content_type = "application/schema+json"),
), security(()))]
pub async fn schema() -> impl IntoResponse {
    ([(header::CONTENT_TYPE, "application/schema+json")], BLUEPRINT_SCHEMA)
}
