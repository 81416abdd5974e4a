//! The live topic hierarchy, what filters catch, and where traffic and plan differ.
use std::sync::{Arc, atomic::Ordering};

use axum::{Json, extract::State, http::StatusCode};
use moorfall_broker::{broker::Broker, clock::date};
use moorfall_contract::topics::{TopicList, TopicView};
use moorfall_live::topics::{hierarchy::First, node::View};
use moorfall_wire::TopicName;
use serde::Deserialize;
use utoipa::IntoParams;

use crate::http::{
    apart::apart,
    preview::preview_of,
    problem::Fault,
    reading::{Limit, Query},
    responses::NotFound,
};

/// Which levels are asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Wanted {
    /// The levels right below this one: omit it for the top level.
    prefix: Option<String>,
    /// `name`, or `rate` for the busiest first.
    #[serde(default)]
    sort: String,
    /// Topics themselves, however deep, in place of levels.
    #[serde(default)]
    flat: bool,
    /// The largest number returned.
    #[serde(default)]
    #[param(value_type = u64, default = 200, minimum = 1, maximum = 5_000)]
    limit: Limit<200, 5_000>,
}

/// List the live topic hierarchy
///
/// Level by level.
#[utoipa::path(get, operation_id = "list_topics", path = "/topics", tag = "topics", params(Wanted), responses(
    (status = 200, body = TopicList),
    NotFound,
))]
pub async fn list(State(broker): State<Arc<Broker>>, Query(wanted): Query<Wanted>) -> Result<Json<TopicList>, Fault> {
    apart(move || list_of(&broker, &wanted)).await.map(Json)
}

fn list_of(broker: &Broker, wanted: &Wanted) -> Result<TopicList, Fault> {
    let now = broker.now();
    let prefix =
        wanted.prefix.as_deref().map(|prefix| prefix.trim_end_matches('/')).filter(|prefix| !prefix.is_empty());
    let total = match prefix {
        None => broker.live.topics.total(now),
        Some(prefix) => broker.live.topics.view(prefix, now).ok_or_else(|| {
            let detail = format!("No messages have been published at or below {prefix} since the service started.");
            Fault::new(StatusCode::NOT_FOUND, "Topic not found", detail)
        })?,
    };
    let first = if wanted.sort == "rate" { First::ByRate } else { First::ByName };
    let most = wanted.limit.0;
    let (levels, count) = if wanted.flat {
        broker.live.topics.whole(prefix, first, most, now)
    } else {
        broker.live.topics.below(prefix, first, most, now)
    };
    let has_plan = !broker.design.policy().plan().topics().is_empty();
    let levels = levels.into_iter().map(|level| view(broker, level)).collect();
    let unfollowed = broker.live.topics.unfollowed.load(Ordering::Relaxed);
    let (memory_bytes, memory_most) = broker.live.topics.size();
    let (memory_bytes, memory_most) = (memory_bytes as u64, memory_most as u64);
    let count = count as u64;
    Ok(TopicList { total: view(broker, total), levels, count, has_plan, unfollowed, memory_bytes, memory_most })
}

pub(super) fn view(broker: &Broker, view: View) -> TopicView {
    let publisher = view.publisher().map(ToString::to_string).unwrap_or_default();
    let View { level, path, topics, has_children, is_topic, messages, bytes, rate, last, value } = view;
    let name = TopicName::new(path.clone()).ok().filter(|_| is_topic);
    let route = name.as_ref().map(|name| broker.sessions.router.route(name));
    let policy = broker.design.policy();
    let planned = policy.plan().find(&path).filter(|_| is_topic);
    TopicView {
        level,
        topics: topics.into(),
        has_children,
        is_topic,
        messages,
        bytes,
        rate: if rate < 0.001 { 0.0 } else { rate },
        last: date(last),
        publisher,
        value: value.as_ref().and_then(|value| preview_of(&path, &value.preview, value.bytes == value.preview.len())),
        value_bytes: value.as_ref().map_or(0, |value| value.bytes as u64),
        numbers: value.map(|value| value.numbers()).unwrap_or_default(),
        retained: name.as_ref().is_some_and(|name| broker.sessions.router.retained_of(name).is_some()),
        planned: planned.map(|place| policy.plan().topics()[place].path.clone()).unwrap_or_default(),
        subscribers: route
            .map_or(0, |route| (route.recipients.len() + route.conditional.len() + route.groups.len()) as u64),
        path,
    }
}
