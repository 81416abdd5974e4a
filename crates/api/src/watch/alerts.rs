//! Alerts: how they stand, who was told, and for how long nobody is to be.

use std::{sync::Arc, time::Duration};

use axum::{Extension, Json, extract::State, http::StatusCode};
use moorfall_broker::broker::Broker;
use moorfall_contract::{
    alerts::{AlertList, AlertView, NoticeList, QuietDraft},
    kinds::{AlertPhase, NoticeState},
};
use moorfall_store::{AlertChanges, Deed, NoticeQuery};
use moorfall_watch::alerts::{self, Alerts, Quiet};
use serde::Deserialize;
use serde_json::json;
use time::{OffsetDateTime, format_description::well_known::Rfc3339};
use utoipa::IntoParams;

use crate::http::{
    operator::Operator,
    problem::{Body, Fault},
    reading::{Limit, Path, Query},
    responses::{Conflict, NotFound},
};

/// Subjects that are told of each alert in the list of all.
const SUBJECTS: usize = 20;

/// The longest time that nobody is told.
const LONGEST_QUIET: u32 = 30 * 86_400;

/// List alerts
///
/// Those first that are out of their bands, by severity, then by name.
#[utoipa::path(get, operation_id = "list_alerts", path = "/alerts", tag = "alerts", responses(
    (status = 200, body = AlertList),
))]
pub async fn list(
    State(broker): State<Arc<Broker>>,
    State(alerts): State<Arc<Alerts>>,
) -> Result<Json<AlertList>, Fault> {
    let all = alerts.views(SUBJECTS);
    let is_raised = |alert: &&AlertView| matches!(alert.phase, AlertPhase::Raised | AlertPhase::Clearing);
    let raised = all.iter().filter(is_raised).count() as u64;
    // How alerts stand is known without the database.
    let waiting_notices = broker.store().waiting_notices().await.unwrap_or_default();
    Ok(Json(AlertList { alerts: all, raised, waiting_notices }))
}

/// How much of an alert is asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct HowMuch {
    /// The largest number of subjects.
    #[serde(default)]
    #[param(value_type = u64, default = 200, minimum = 1, maximum = 1_000)]
    limit: Limit<200, 1_000>,
}

/// Get an alert
#[utoipa::path(get, operation_id = "show_alert", path = "/alerts/{name}", tag = "alerts", params(("name" = String, Path), HowMuch), responses(
    (status = 200, body = AlertView),
    NotFound,
))]
pub async fn show(
    State(alerts): State<Arc<Alerts>>,
    Path(name): Path<String>,
    Query(HowMuch { limit }): Query<HowMuch>,
) -> Result<Json<AlertView>, Fault> {
    alerts.view(&name, limit.0).map(Json).ok_or_else(|| not_found(&alerts, &name))
}

pub(super) fn not_found(alerts: &Alerts, name: &str) -> Fault {
    let known = alerts.names();
    let known = if known.is_empty() { "none".to_owned() } else { known.join(", ") };
    let detail = format!("There is no alert {name}. The blueprint in force has: {known}.");
    Fault::new(StatusCode::NOT_FOUND, "Alert not found", detail)
}

/// Which notices are asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Wanted {
    /// Only those of this alert.
    #[param(nullable = false)]
    alert: Option<String>,
    /// Only those in this state.
    #[param(inline = false, nullable = false)]
    state: Option<NoticeState>,
    /// Only those before the one of this number: the last one of the page before.
    #[param(nullable = false)]
    before: Option<i64>,
    /// The largest number returned.
    #[serde(default)]
    #[param(value_type = u64, default = 50, minimum = 1, maximum = 1_000)]
    limit: Limit<50, 1_000>,
}

/// List notices
///
/// What was told of alerts, to whom, and what has become of it: newest first.
#[utoipa::path(get, operation_id = "list_notices", path = "/notices", tag = "alerts", params(Wanted), responses(
    (status = 200, body = NoticeList),
))]
pub async fn notices(
    State(broker): State<Arc<Broker>>,
    Query(wanted): Query<Wanted>,
) -> Result<Json<NoticeList>, Fault> {
    let state = wanted.state.map(|state| alerts::state_name(state).to_owned());
    let query = NoticeQuery { alert: wanted.alert, state, before: wanted.before, id: None };
    notices_of(&broker, &query, wanted.limit.0).await
}

async fn notices_of(broker: &Broker, query: &NoticeQuery, most: usize) -> Result<Json<NoticeList>, Fault> {
    let found = broker.store().notices(query, most as i64).await?;
    let waiting = broker.store().waiting_notices().await?;
    Ok(Json(NoticeList { notices: found.into_iter().filter_map(alerts::notice).collect(), waiting }))
}

/// Test an alert
///
/// Sends a notice, marked as a test, to each address of each of its contacts. What becomes of them is among the notices.
#[utoipa::path(post, operation_id = "test_alert", path = "/alerts/{name}/test", tag = "alerts", params(("name" = String, Path)), responses(
    (status = 200, body = NoticeList),
    NotFound,
    Conflict,
))]
pub async fn test(
    State(broker): State<Arc<Broker>>,
    State(alerts): State<Arc<Alerts>>,
    Extension(operator): Extension<Operator>,
    Path(name): Path<String>,
) -> Result<Json<NoticeList>, Fault> {
    let notices = alerts.test(&name, broker.now()).ok_or_else(|| not_found(&alerts, &name))?;
    let (Some(id), count) = (notices.first().map(|notice| notice.id.clone()), notices.len()) else {
        let detail = format!("The alert {name} tells nobody. Name contacts in its `tell` in the blueprint.");
        return Err(Fault::new(StatusCode::CONFLICT, "Nobody to tell", detail));
    };
    broker.store().change_alerts(&AlertChanges { notices, ..AlertChanges::default() }).await?;
    broker.sessions.note(&operator.author(), Deed::new("test", "alert", &name));
    alerts.notify();
    let query = NoticeQuery { alert: Some(name), id: Some(id), ..NoticeQuery::default() };
    notices_of(&broker, &query, count).await
}

/// Quiet an alert
///
/// For a while nobody is told of it. If it is out, or was told and is back, when that ends, it is told then.
#[utoipa::path(put, operation_id = "quiet_alert", path = "/alerts/{name}/quiet", tag = "alerts", params(("name" = String, Path)), request_body = QuietDraft, responses(
    (status = 200, body = AlertView),
    NotFound,
))]
pub async fn quiet(
    State(broker): State<Arc<Broker>>,
    State(alerts): State<Arc<Alerts>>,
    Extension(operator): Extension<Operator>,
    Path(name): Path<String>,
    Body(QuietDraft { seconds }): Body<QuietDraft>,
) -> Result<Json<AlertView>, Fault> {
    if !(1..=LONGEST_QUIET).contains(&seconds) {
        let detail = format!("An alert can be quiet for 1 to {LONGEST_QUIET} seconds, and not for {seconds}.");
        return Err(Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "Invalid time", detail));
    }
    let until = OffsetDateTime::now_utc() + Duration::from_secs(seconds.into());
    set_quiet(&broker, &alerts, &operator, name, Some(until)).await
}

/// Tell of an alert again
#[utoipa::path(delete, operation_id = "end_quiet", path = "/alerts/{name}/quiet", tag = "alerts", params(("name" = String, Path)), responses(
    (status = 200, body = AlertView),
    NotFound,
))]
pub async fn end_quiet(
    State(broker): State<Arc<Broker>>,
    State(alerts): State<Arc<Alerts>>,
    Extension(operator): Extension<Operator>,
    Path(name): Path<String>,
) -> Result<Json<AlertView>, Fault> {
    set_quiet(&broker, &alerts, &operator, name, None).await
}

async fn set_quiet(
    broker: &Broker,
    alerts: &Alerts,
    operator: &Operator,
    name: String,
    until: Option<OffsetDateTime>,
) -> Result<Json<AlertView>, Fault> {
    if alerts.view(&name, 1).is_none() {
        return Err(not_found(alerts, &name));
    }
    let by = operator.author();
    let written = until.and_then(|until| until.format(&Rfc3339).ok());
    let deed = Deed {
        after: written.map(|until| json!({ "until": until })),
        ..Deed::new(if until.is_some() { "quiet" } else { "end quiet of" }, "alert", &name)
    };
    broker.store().put_quiet(&name, until, &by, deed).await?;
    alerts.set_quiet(&name, until.map(|until| Quiet { by: by.person.to_string(), until }));
    alerts.view(&name, SUBJECTS).map(Json).ok_or_else(|| not_found(alerts, &name))
}
