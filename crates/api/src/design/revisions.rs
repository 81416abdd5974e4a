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
    problem::Problem,
};
use moorfall_core::blueprint::SourceFile;
use moorfall_store::RevisionRecord;

use crate::{
    http::{
        operator::Operator,
        problem::{Body, Fault},
        reading::Path,
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
        sound: checked.is_sound(),
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
    Fault::new(StatusCode::NOT_FOUND, "no such revision", format!("there is no revision {number}"))
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
            NotApplied::Unsound(checked) => {
                (StatusCode::UNPROCESSABLE_ENTITY, Json(check_view(&checked))).into_response()
            }
            NotApplied::Overtaken(revision) => {
                let detail = format!(
                    "revision {revision} is in force by now, and yours was made upon an earlier one; compare with it, \
                     and apply again upon {revision}. Nothing was changed"
                );
                Fault::new(StatusCode::CONFLICT, "another revision is in force", detail).into_response()
            }
            NotApplied::Unknown(number) => unknown(number).into_response(),
            NotApplied::Store(error) => Fault::from(error).into_response(),
        }
    }
}

/// Check a blueprint against the identities that there are.
#[utoipa::path(post, operation_id = "check_blueprint", path = "/blueprint/check", tag = "design", request_body = BlueprintDraft, responses(
    (status = 200, body = Check),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 429, body = Problem, content_type = "application/problem+json"),
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
        let detail = format!("a check of {} is under way; wait for its answer", operator.name);
        Fault::new(StatusCode::TOO_MANY_REQUESTS, "one check at a time", detail)
    })
}

/// What a blueprint changes of the design in force, and what that does to what is live. Nothing is changed.
#[utoipa::path(post, operation_id = "compare_blueprint", path = "/blueprint/compare", tag = "design", request_body = BlueprintDraft, responses(
    (status = 200, body = Comparison),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
    (status = 429, body = Problem, content_type = "application/problem+json"),
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

/// Apply a blueprint. It is refused, with its check, when it is wrong or a proof fails.
#[utoipa::path(post, operation_id = "apply_blueprint", path = "/blueprint/revisions", tag = "design", request_body = Application, responses(
    (status = 201, body = RevisionView),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Check),
    (status = 503, body = Problem, content_type = "application/problem+json"),
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

/// Put an earlier revision in force again, as a new one.
#[utoipa::path(post, operation_id = "revert_blueprint", path = "/blueprint/revisions/{number}/revert", tag = "design",
    params(("number" = i64, Path)), request_body = Reversion, responses(
    (status = 201, body = RevisionView),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Check),
    (status = 503, body = Problem, content_type = "application/problem+json"),
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

/// The revisions, newest first, without their files.
#[utoipa::path(get, operation_id = "list_revisions", path = "/blueprint/revisions", tag = "design", responses(
    (status = 200, body = Vec<RevisionView>),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub async fn list(State(broker): State<Arc<Broker>>) -> Result<Json<Vec<RevisionView>>, Fault> {
    let records = broker.store().revisions(LISTED).await?;
    let in_force = broker.design.in_force().revision;
    Ok(Json(records.into_iter().map(|record| view(record, in_force)).collect()))
}

/// One revision with its files.
#[utoipa::path(get, operation_id = "show_revision", path = "/blueprint/revisions/{number}", tag = "design", params(("number" = i64, Path)), responses(
    (status = 200, body = RevisionView),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 503, body = Problem, content_type = "application/problem+json"),
))]
pub async fn show(State(broker): State<Arc<Broker>>, Path(number): Path<i64>) -> Result<Json<RevisionView>, Fault> {
    let record = broker.store().revision(number).await?;
    let in_force = broker.design.in_force().revision;
    record.map(|record| Json(view(record, in_force))).ok_or_else(|| unknown(number))
}

/// A JSON Schema of the blueprint's files, for editors.
#[utoipa::path(get, operation_id = "blueprint_schema", path = "/blueprint/schema", tag = "design", responses(
    (status = 200, description = "The schema", content_type = "application/schema+json"),
), security(()))]
pub async fn schema() -> impl IntoResponse {
    ([(header::CONTENT_TYPE, "application/schema+json")], BLUEPRINT_SCHEMA)
}
