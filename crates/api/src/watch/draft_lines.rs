//! Lines for a blueprint, made of what was published.
use std::sync::Arc;

use axum::{Json, extract::State, http::StatusCode};
use moorfall_broker::broker::Broker;
use moorfall_contract::topics::DraftLines;
use serde::Deserialize;
use utoipa::IntoParams;

use super::topics::view;
use crate::http::{
    problem::Fault,
    reading::Query,
    responses::{Conflict, NotFound},
};

/// Which topic is to be planned.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ToDraft {
    /// The topic, as it was published to.
    topic: String,
}

/// Get blueprint lines for a topic
///
/// For a topic that has messages and that no planned topic covers yet.
#[utoipa::path(get, operation_id = "draft_topic", path = "/topics/draft", tag = "topics", params(ToDraft), responses(
    (status = 200, body = DraftLines),
    NotFound,
    Conflict,
))]
pub async fn draft(
    State(broker): State<Arc<Broker>>,
    Query(ToDraft { topic }): Query<ToDraft>,
) -> Result<Json<DraftLines>, Fault> {
    let known = broker.live.topics.view(&topic, broker.now()).filter(|view| view.is_topic);
    let view = known.map(|known| view(&broker, known)).ok_or_else(|| {
        let detail = format!(
            "No messages have been published to {topic} itself. `moorfall topics tree` shows the \
                              topics that have messages."
        );
        Fault::new(StatusCode::NOT_FOUND, "Topic not found", detail)
    })?;
    if !view.planned.is_empty() {
        let detail = format!("{topic} is already planned by {}.", view.planned);
        return Err(Fault::new(StatusCode::CONFLICT, "Topic already planned", detail));
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
    Ok(Json(DraftLines { text }))
}
