//! Retained messages: what there is, clearing it, and taking that back.

use std::{fmt::Write, sync::Arc};

use axum::{Extension, Json, extract::State, http::StatusCode};
use moorfall_core::Message;
use moorfall_wire::{TopicFilter, TopicName};
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::{IntoParams, ToSchema};

use crate::{
    http::apart::apart,
    http::{
        operator::Operator,
        problem::{Body, Problem},
        reading::{Limit, Query},
    },
};
use moorfall_broker::{broker::Broker, clock::date, sessions::deeds::Restored};

/// Characters of a payload that are shown in a list.
const PREVIEW: usize = 240;

/// Bytes of a payload that are shown in hexadecimal digits.
const HEX: usize = 64 * 1024;

/// Topics that are cleared by one call.
const CLEARED: usize = 10_000;

/// A retained message, without the whole of its payload.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RetainedView {
    /// Its topic.
    pub topic: String,
    /// The quality of service that it was published with.
    pub qos: u8,
    /// Bytes of its payload.
    pub bytes: u64,
    /// When it was accepted.
    #[serde(with = "time::serde::rfc3339")]
    pub received_at: OffsetDateTime,
    /// Seconds until it expires; null if it never does.
    pub expires_in: Option<u32>,
    /// Who published to its topic last since the service started; empty if nobody has.
    pub publisher: String,
    /// The planned path of its topic; empty if it is not planned.
    pub planned: String,
    /// The beginning of its payload; null if that is no text.
    pub preview: Option<String>,
    /// Whether the payload goes on after that.
    pub more: bool,
}

/// Retained messages that a filter matches.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RetainedList {
    /// How many there are.
    pub total: u64,
    /// Bytes of their payloads, topics and properties.
    pub bytes: u64,
    /// Whether anything is planned, so that an empty `planned` says something.
    pub has_plan: bool,
    /// The first of them, as asked for.
    pub retained: Vec<RetainedView>,
}

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
    #[param(default = "#")]
    filter: String,
    /// By `topic`, `size` or `age`.
    #[serde(default)]
    #[param(inline)]
    sort: Order,
    /// Only those behind this topic, in the order by topic: the last one of the page before.
    #[param(nullable = false)]
    after: Option<String>,
    /// At most so many.
    #[serde(default)]
    #[param(value_type = u64, default = 500, minimum = 1, maximum = 10_000)]
    limit: Limit<500, 10_000>,
}

fn everything() -> String {
    "#".into()
}

fn read_filter(text: &str) -> Result<TopicFilter, Problem> {
    TopicFilter::new(text.to_owned()).map_err(|error| {
        let detail = format!("{text:?} is not a topic filter: {error}");
        Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "not a topic filter", detail)
    })
}

/// Retained messages that a filter matches.
#[utoipa::path(get, operation_id = "list_retained", path = "/retained", tag = "retained", params(Wanted), responses(
    (status = 200, body = RetainedList),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
))]
pub async fn list(
    State(broker): State<Arc<Broker>>,
    Query(wanted): Query<Wanted>,
) -> Result<Json<RetainedList>, Problem> {
    let filter = read_filter(&wanted.filter)?;
    if wanted.after.is_some() && wanted.sort != Order::Topic {
        let detail = "`after` goes with the order by topic; leave it out, or sort by topic";
        return Err(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "no such order", detail));
    }
    Ok(Json(apart(move || list_of(&broker, &filter, &wanted)).await))
}

fn list_of(broker: &Broker, filter: &TopicFilter, wanted: &Wanted) -> RetainedList {
    let mut found = broker.sessions.router.retained(filter, broker.now());
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
    let text = std::str::from_utf8(&message.payload).ok();
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
        more: preview.as_ref().is_none_or(|preview| preview.len() < message.payload.len()),
        preview,
    }
}

/// A user property.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NameAndValue {
    /// Its name.
    pub name: String,
    /// Its value.
    pub value: String,
}

/// A retained message with all that it carries.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RetainedMessage {
    /// What a list tells of it.
    pub about: RetainedView,
    /// Its payload; null if that is no text.
    pub payload: Option<String>,
    /// Its payload in hexadecimal digits, at most 64 KiB of it.
    pub payload_hex: String,
    /// What the payload is, as its publisher says; empty if it does not.
    pub content_type: String,
    /// User properties.
    pub user: Vec<NameAndValue>,
}

/// Which retained message is asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Of {
    /// Its topic.
    topic: String,
}

/// One retained message with its payload.
#[utoipa::path(get, operation_id = "show_retained", path = "/retained/message", tag = "retained", params(Of), responses(
    (status = 200, body = RetainedMessage),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub async fn show(
    State(broker): State<Arc<Broker>>,
    Query(Of { topic }): Query<Of>,
) -> Result<Json<RetainedMessage>, Problem> {
    let missing = || {
        let detail = format!("{topic} has no retained message; /api/v1/retained lists what there is");
        Problem::new(StatusCode::NOT_FOUND, "no retained message", detail)
    };
    let name = TopicName::new(topic.clone()).map_err(|_| missing())?;
    let message = broker.sessions.router.retained_of(&name).ok_or_else(missing)?;
    let hex = message.payload.iter().take(HEX).fold(String::new(), |mut text, byte| {
        let _infallible = write!(text, "{byte:02x}");
        text
    });
    let user = message.properties.user_properties.iter();
    Ok(Json(RetainedMessage {
        about: view(&broker, &message),
        payload: std::str::from_utf8(&message.payload).ok().map(str::to_owned),
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
    topics: Vec<String>,
}

/// What was cleared.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ClearedView {
    /// The topics that had a retained message and have none now.
    pub topics: Vec<String>,
    /// Bytes of their payloads, topics and properties.
    pub bytes: u64,
    /// What brings them back, for a while.
    pub undo: String,
}

/// Clear the retained messages of topics. Who subscribes to them is sent an empty message, as if it were published.
#[utoipa::path(post, operation_id = "clear_retained", path = "/retained/clear", tag = "retained", request_body = Clearing, responses(
    (status = 200, body = ClearedView),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
))]
pub async fn clear(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Body(Clearing { topics }): Body<Clearing>,
) -> Result<Json<ClearedView>, Problem> {
    let wrong = |detail: String| Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "topics not acceptable", detail);
    if topics.is_empty() || topics.len() > CLEARED {
        return Err(wrong(format!("from 1 to {CLEARED} topics are cleared at a time, and there are {}", topics.len())));
    }
    let named: Result<Vec<TopicName>, _> = topics.into_iter().map(TopicName::new).collect();
    let named = named.map_err(|error| wrong(format!("not a topic name: {error}")))?;
    let (gone, undo) = broker.sessions.clear_retained(named, &operator.author());
    Ok(Json(ClearedView {
        topics: gone.iter().map(|message| message.topic.to_string()).collect(),
        bytes: gone.iter().map(|message| message.weight() as u64).sum(),
        undo,
    }))
}

/// What is to be brought back.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Undoing {
    /// What clearing gave.
    undo: String,
}

/// What was brought back.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RestoredView {
    /// Topics that have their retained message again.
    pub restored: u64,
    /// Topics that have got another one meanwhile, which stays.
    pub kept: u64,
}

/// Bring back retained messages that were cleared, where none has come since. It is possible for the last clearings
/// since the service started.
#[utoipa::path(post, operation_id = "restore_retained", path = "/retained/restore", tag = "retained", request_body = Undoing, responses(
    (status = 200, body = RestoredView),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub async fn restore(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Body(Undoing { undo }): Body<Undoing>,
) -> Result<Json<RestoredView>, Problem> {
    let Some(Restored { restored, replaced }) = broker.sessions.restore_retained(&undo, &operator.author()) else {
        let detail = "what was cleared then is not at hand any more; only the last clearings can be taken back";
        return Err(Problem::new(StatusCode::NOT_FOUND, "nothing to bring back", detail.to_owned()));
    };
    Ok(Json(RestoredView { restored, kept: replaced }))
}
