//! Retained messages: what there is, clearing it, and taking that back.
use std::sync::Arc;

use axum::{Extension, Json, extract::State, http::StatusCode};
use moorfall_broker::{broker::Broker, clock::date, sessions::deeds::Restored};
use moorfall_contract::retained::{
    ClearedView, NameAndValue, RestoredView, RetainedList, RetainedMessage, RetainedView,
};
use moorfall_core::Message;
use moorfall_payload::sparkplug;
use serde::Deserialize;
use utoipa::{IntoParams, ToSchema};

use crate::http::{
    apart::apart,
    fields::{Filter, Topic},
    operator::Operator,
    preview::preview_of,
    problem::{Body, Fault},
    reading::{Limit, Query},
    responses::NotFound,
};

/// Characters of a payload that are shown in a list.
const PREVIEW: usize = 240;

/// Bytes of a payload of Sparkplug B that is decoded for a list.
const DECODED: usize = 4 * 1024;

/// Bytes of a payload that are shown in hexadecimal digits.
const HEX: usize = 64 * 1024;

/// Topics that are cleared by one call.
const CLEARED: usize = 10_000;

/// The order of a list.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Order {
    /// By topic.
    #[default]
    Topic,
    /// The largest payload first.
    Size,
    /// The oldest first.
    Age,
}

/// Which retained messages are asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Wanted {
    /// Only those whose topics the filter matches.
    #[serde(default = "everything")]
    #[param(value_type = String, default = "#")]
    filter: Filter,
    /// By `topic`, `size` or `age`.
    #[serde(default)]
    #[param(inline)]
    sort: Order,
    /// Only those behind this topic, in the order by topic: the last one of the page before.
    #[param(nullable = false)]
    after: Option<String>,
    /// The largest number returned.
    #[serde(default)]
    #[param(value_type = u64, default = 500, minimum = 1, maximum = 10_000)]
    limit: Limit<500, 10_000>,
}

fn everything() -> Filter {
    Filter("#".parse().expect("it is a filter"))
}

/// List retained messages
///
/// Those that a topic filter matches.
#[utoipa::path(get, operation_id = "list_retained", path = "/retained", tag = "retained", params(Wanted), responses(
    (status = 200, body = RetainedList),
))]
pub async fn list(
    State(broker): State<Arc<Broker>>,
    Query(wanted): Query<Wanted>,
) -> Result<Json<RetainedList>, Fault> {
    if wanted.after.is_some() && wanted.sort != Order::Topic {
        let detail = "`after` works only with the order by topic. Leave it out, or sort by topic.";
        return Err(Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "Invalid order", detail));
    }
    Ok(Json(apart(move || list_of(&broker, &wanted)).await))
}

fn list_of(broker: &Broker, wanted: &Wanted) -> RetainedList {
    let mut found = broker.sessions.router.retained(&wanted.filter.0, broker.now());
    match wanted.sort {
        Order::Topic => found.sort_by(|one, other| one.topic.cmp(&other.topic)),
        Order::Size => found.sort_by_key(|message| std::cmp::Reverse(message.payload.len())),
        Order::Age => found.sort_by_key(|message| message.received),
    }
    let (total, bytes) = (found.len() as u64, found.iter().map(|message| message.weight() as u64).sum());
    if let Some(after) = &wanted.after {
        found.drain(..found.partition_point(|message| *message.topic <= **after));
    }
    RetainedList {
        total,
        bytes,
        has_plan: !broker.design.policy().plan().topics().is_empty(),
        retained: found.iter().take(wanted.limit.0).map(|message| view(broker, message)).collect(),
    }
}

fn view(broker: &Broker, message: &Message) -> RetainedView {
    let now = broker.now();
    let policy = broker.design.policy();
    let planned = policy.plan().find(&message.topic).map(|place| policy.plan().topics()[place].path.clone());
    let told = if message.payload.len() <= DECODED { sparkplug::told(&message.topic, &message.payload) } else { None };
    let told = told.map(|told| told.to_string());
    let text = told.as_deref().or_else(|| std::str::from_utf8(&message.payload).ok());
    let preview: Option<String> = text.map(|text| text.chars().take(PREVIEW).collect());
    RetainedView {
        topic: message.topic.to_string(),
        qos: message.qos.level(),
        bytes: message.payload.len() as u64,
        received_at: date(message.received),
        expires_in: message.expiry_left(now),
        publisher: broker
            .live
            .topics
            .view(&message.topic, now)
            .and_then(|view| view.publisher().map(ToString::to_string))
            .unwrap_or_default(),
        planned: planned.unwrap_or_default(),
        more: preview.as_ref().zip(text).is_none_or(|(preview, text)| preview.len() < text.len()),
        preview,
    }
}

/// Which retained message is asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Of {
    /// Its topic.
    #[param(value_type = String)]
    topic: Topic,
}

/// Get a retained message with its payload
#[utoipa::path(get, operation_id = "show_retained", path = "/retained/message", tag = "retained", params(Of), responses(
    (status = 200, body = RetainedMessage),
    NotFound,
))]
pub async fn show(
    State(broker): State<Arc<Broker>>,
    Query(Of { topic: Topic(topic) }): Query<Of>,
) -> Result<Json<RetainedMessage>, Fault> {
    let missing = || {
        let detail = format!("{topic} has no retained message. GET /api/v1/retained lists all.");
        Fault::new(StatusCode::NOT_FOUND, "Retained message not found", detail)
    };
    let message = broker.sessions.router.retained_of(&topic).ok_or_else(missing)?;
    let hex = hex::encode(&message.payload[..message.payload.len().min(HEX)]);
    let user = message.properties.user_properties.iter();
    Ok(Json(RetainedMessage {
        about: view(&broker, &message),
        payload: preview_of(&message.topic, &message.payload, true),
        payload_hex: hex,
        content_type: message.properties.content_type.as_deref().unwrap_or_default().to_owned(),
        user: user.map(|one| NameAndValue { name: one.name.to_string(), value: one.value.to_string() }).collect(),
    }))
}

/// What is to be cleared.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Clearing {
    /// At most 10,000 at a time.
    #[serde(default)]
    topics: Vec<Topic>,
}

/// Clear retained messages
///
/// Subscribers receive an empty message for each, as if it were published.
#[utoipa::path(post, operation_id = "clear_retained", path = "/retained/clear", tag = "retained", request_body = Clearing, responses(
    (status = 200, body = ClearedView),
))]
pub async fn clear(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Body(Clearing { topics }): Body<Clearing>,
) -> Result<Json<ClearedView>, Fault> {
    let wrong = |detail: String| Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "Invalid topics", detail);
    if topics.is_empty() || topics.len() > CLEARED {
        return Err(wrong(format!("A request clears 1 to {CLEARED} topics; this one has {}.", topics.len())));
    }
    let topics = topics.into_iter().map(|Topic(topic)| topic).collect();
    let (gone, restore_key) = broker.sessions.clear_retained(topics, &operator.author());
    Ok(Json(ClearedView {
        topics: gone.iter().map(|message| message.topic.to_string()).collect(),
        bytes: gone.iter().map(|message| message.weight() as u64).sum(),
        restore_key,
    }))
}

/// What is to be brought back.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Restoring {
    /// What clearing gave.
    restore_key: String,
}

/// Restore cleared messages
///
/// Where no newer message has arrived. Only the latest clears can be restored, until the service stops.
#[utoipa::path(post, operation_id = "restore_retained", path = "/retained/restore", tag = "retained", request_body = Restoring, responses(
    (status = 200, body = RestoredView),
    NotFound,
))]
pub async fn restore(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Body(Restoring { restore_key }): Body<Restoring>,
) -> Result<Json<RestoredView>, Fault> {
    let Some(Restored { restored, replaced }) = broker.sessions.restore_retained(&restore_key, &operator.author())
    else {
        let detail = "These messages can no longer be restored. Only the latest clears are held, and only until the \
                      service stops.";
        return Err(Fault::new(StatusCode::NOT_FOUND, "Nothing to restore", detail.to_owned()));
    };
    Ok(Json(RestoredView { restored, kept: replaced }))
}
