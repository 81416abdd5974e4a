//! Derived topics: what they make, and what they would.

use std::sync::Arc;

use axum::{Json, extract::State, http::StatusCode};
use moorfall_broker::clock::date;
use moorfall_contract::derived::{
    DerivedCounts, DerivedDetails, DerivedFailure, DerivedList, DerivedSourceView, DerivedTopicView, DerivedTrial,
    DerivedTrialOutcome, DerivedTrialResult, DerivedView, DerivedWindow,
};
use moorfall_contract::kinds::DerivedOutcome;
use moorfall_core::{
    blueprint::Derived,
    derived::{Known, Outcome},
};
use moorfall_links::derived::{Counts, DerivedTopics, Seen};
use moorfall_wire::TopicName;
use serde::Deserialize;
use utoipa::IntoParams;

use crate::http::{
    apart::apart,
    problem::{Body, Fault},
    reading::{Path, Query},
    responses::NotFound,
};

/// Topics that are told at most, and as many if nobody says how many.
const TOPICS: (usize, usize) = (10_000, 100);

/// How many topics are wanted.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Wanted {
    /// Topics at most, up to 10,000.
    #[serde(default = "usual")]
    #[param(default = 100)]
    limit: usize,
}

fn usual() -> usize {
    TOPICS.1
}

fn not_found(derived: &DerivedTopics, name: &str) -> Fault {
    let known: Vec<String> = derived.all().into_iter().map(|seen| seen.design.name).collect();
    let known = if known.is_empty() { "none".to_owned() } else { known.join(", ") };
    let detail = format!("There is no derived topic {name}. The blueprint in force has: {known}.");
    Fault::new(StatusCode::NOT_FOUND, "Derived topic not found", detail)
}

fn view(Seen { design, counts, topics }: Seen) -> DerivedView {
    let Counts {
        heard,
        published,
        unchanged,
        waited,
        not_true,
        incomplete,
        failed,
        refused,
        full,
        published_at,
        failure,
    } = counts;
    let Derived { name, purpose, sources, to, condition, value, scale, on_change, dead_band, qos, retained, .. } =
        &design;
    DerivedView {
        name: name.clone(),
        purpose: purpose.clone(),
        from: sources
            .iter()
            .map(|source| DerivedSourceView {
                name: source.name.clone(),
                filter: source.names.written_filter().to_owned(),
            })
            .collect(),
        to: to.clone(),
        condition: condition.as_ref().map(ToString::to_string),
        value: value.to_string(),
        factor: scale.0,
        offset: scale.1,
        decimals: design.decimals,
        window: design
            .window
            .map(|window| DerivedWindow { statistic: window.statistic.into(), seconds: window.span.as_secs() }),
        on_change: *on_change,
        dead_band: *dead_band,
        at_most_every_seconds: design.at_most_every.map(|time| time.as_secs()),
        cadence_seconds: design.cadence.map(|time| time.as_secs()),
        payload: design.form.into(),
        qos: qos.level(),
        retained: *retained,
        topics: topics as u64,
        counts: DerivedCounts { heard, published, unchanged, waited, not_true, incomplete, failed, refused, full },
        published_at: published_at.map(date),
        failure: failure.map(|failure| DerivedFailure {
            at: date(failure.at),
            topic: failure.topic.to_string(),
            payload: failure.payload,
            words: failure.why.to_string(),
        }),
    }
}

/// What is known of a topic that is made.
pub(crate) fn topic(known: Known) -> DerivedTopicView {
    let Known { topic, value, published, waits, heard } = known;
    let (value, made_at) = value.map(|(value, at)| (value.to_string(), date(at))).unzip();
    let quality = published.as_ref().map(|(.., quality)| (*quality).into());
    let (published, published_at) = published.map(|(value, at, _)| (value.to_string(), date(at))).unzip();
    let topic = topic.to_string();
    let sources = heard.into_iter().flatten().collect();
    DerivedTopicView { topic, value, made_at, published, published_at, quality, waits, sources }
}

/// What would become of a message, for people.
pub(crate) fn outcome(name: &str, topic: &TopicName, outcome: Outcome) -> DerivedTrialOutcome {
    let mut told = DerivedTrialOutcome {
        derived: name.to_owned(),
        topic: topic.to_string(),
        outcome: DerivedOutcome::Unchanged,
        payload: None,
        until: None,
        missing: Vec::new(),
        words: String::new(),
    };
    told.outcome = match outcome {
        Outcome::Published(payload) => {
            told.payload = Some(String::from_utf8_lossy(&payload).into_owned());
            DerivedOutcome::Published
        }
        Outcome::Unchanged => DerivedOutcome::Unchanged,
        Outcome::Waits(until) => {
            told.until = Some(date(until));
            DerivedOutcome::Waits
        }
        Outcome::NotTrue => DerivedOutcome::NotTrue,
        Outcome::Incomplete(missing) => {
            told.missing = missing;
            DerivedOutcome::Incomplete
        }
        Outcome::OneAlone => DerivedOutcome::OneAlone,
        Outcome::Failed(why) => {
            told.words = why.to_string();
            DerivedOutcome::Failed
        }
        Outcome::Full => DerivedOutcome::Full,
    };
    told
}

/// List derived topics
#[utoipa::path(get, operation_id = "list_derived", path = "/derived", tag = "derived", responses(
    (status = 200, body = DerivedList),
))]
pub async fn list(State(derived): State<Arc<DerivedTopics>>) -> Json<DerivedList> {
    Json(DerivedList { derived: derived.all().into_iter().map(view).collect(), trouble: derived.trouble() })
}

/// Get a derived topic
#[utoipa::path(get, operation_id = "show_derived", path = "/derived/{name}", tag = "derived", params(("name" = String, Path), Wanted), responses(
    (status = 200, body = DerivedDetails),
    NotFound,
))]
pub async fn show(
    State(derived): State<Arc<DerivedTopics>>,
    Path(name): Path<String>,
    Query(Wanted { limit }): Query<Wanted>,
) -> Result<Json<DerivedDetails>, Fault> {
    let (seen, topics) = derived.get(&name, limit.min(TOPICS.0)).ok_or_else(|| not_found(&derived, &name))?;
    Ok(Json(DerivedDetails { derived: view(seen), topics: topics.into_iter().map(topic).collect() }))
}

/// Try a derived topic
///
/// What would become of a message now. Nothing is changed and nothing is published.
#[utoipa::path(post, operation_id = "try_derived", path = "/derived/{name}/trial", tag = "derived", params(("name" = String, Path)), request_body = DerivedTrial, responses(
    (status = 200, body = DerivedTrialResult),
    NotFound,
))]
pub async fn trial(
    State(derived): State<Arc<DerivedTopics>>,
    Path(name): Path<String>,
    Body(DerivedTrial { topic, payload }): Body<DerivedTrial>,
) -> Result<Json<DerivedTrialResult>, Fault> {
    let read: TopicName = topic.parse().map_err(|error| {
        Fault::new(StatusCode::BAD_REQUEST, "Not a topic", format!("`{topic}` is not a topic: {error}."))
    })?;
    apart(move || {
        let made = derived.try_one(&name, &read, payload.as_bytes()).ok_or_else(|| not_found(&derived, &name))?;
        let outcomes = made.into_iter().map(|(topic, made)| outcome(&name, &topic, made)).collect();
        Ok(Json(DerivedTrialResult { outcomes }))
    })
    .await
}
