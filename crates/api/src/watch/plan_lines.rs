//! Lines for a blueprint, made of what was published.
use std::sync::Arc;

use axum::{Json, extract::State, http::StatusCode};
use moorfall_broker::broker::Broker;
use moorfall_contract::{problem::Problem, topics::PlanLines};
use serde::Deserialize;
use utoipa::IntoParams;

use super::topics::view;
use crate::http::{problem::Fault, reading::Query};

/// Which topic is to be planned.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ToPlan {
    /// The topic, as it was published to.
    topic: String,
}

/// Lines for a blueprint that plan a topic as it was published to, which no planned path holds yet.
#[utoipa::path(get, operation_id = "plan_topic", path = "/topics/plan", tag = "topics", params(ToPlan), responses(
    (status = 200, body = PlanLines),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
))]
pub async fn plan(
    State(broker): State<Arc<Broker>>,
    Query(ToPlan { topic }): Query<ToPlan>,
) -> Result<Json<PlanLines>, Fault> {
    let known = broker.live.topics.view(&topic, broker.now()).filter(|view| view.is_topic);
    let view = known.map(|known| view(&broker, known)).ok_or_else(|| {
        let detail = format!("nothing was published to {topic} itself; `moorfall topics tree` shows where");
        Fault::new(StatusCode::NOT_FOUND, "no such topic", detail)
    })?;
    if !view.planned.is_empty() {
        let detail = format!("{topic} is planned: it is one of {}", view.planned);
        return Err(Fault::new(StatusCode::CONFLICT, "topic is planned", detail));
    }
    let drift = broker.live.drifts.list().into_iter().find(|((known, _), _)| *known == topic);
    let sample = drift.map(|(_, seen)| seen.what.sample).unwrap_or_default();
    let payload = match serde_json::from_slice::<serde_json::Value>(&sample) {
        Ok(value) if value.is_number() => "number",
        Ok(_) => "json",
        Err(_) if sample.is_empty() || std::str::from_utf8(&sample).is_err() => "bytes",
        Err(_) => "text",
    };
    let retained = if view.retained { "required" } else { "never" };
    let path = toml::Value::from(topic.as_str());
    let text =
        format!("[[topics]]\npath = {path}\npurpose = \"\"\npayload = \"{payload}\"\nretained = \"{retained}\"\n");
    Ok(Json(PlanLines { text }))
}
