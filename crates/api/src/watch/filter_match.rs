//! What a filter matches, planned and live, and what it just misses.
use std::sync::Arc;

use axum::{Json, extract::State};
use moorfall_broker::{broker::Broker, changes::effects::inner};
use moorfall_contract::topics::{Match, NearMiss};
use moorfall_core::near_miss::{self, Value, near_miss};
use moorfall_live::topics::search as topic_search;
use moorfall_wire::TopicFilter;
use serde::Deserialize;
use utoipa::IntoParams;

use crate::http::{
    apart::apart,
    fields::Filter,
    reading::{Limit, Query},
};

/// Which filter is asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Wanted {
    /// The topic filter.
    #[param(value_type = String)]
    filter: Filter,
    /// The largest number of each.
    #[serde(default)]
    #[param(value_type = u64, default = 20, minimum = 1, maximum = 1_000)]
    limit: Limit<20, 1_000>,
}

/// Match a topic filter
///
/// The planned and live topics that it matches, and near misses with the level at which they stop matching.
#[utoipa::path(get, operation_id = "match_topics", path = "/topics/match", tag = "topics", params(Wanted), responses(
    (status = 200, body = Match),
))]
pub async fn matches(State(broker): State<Arc<Broker>>, Query(wanted): Query<Wanted>) -> Json<Match> {
    let filter = inner(&wanted.filter.0);
    let limit = wanted.limit.0;
    Json(apart(move || match_of(&broker, &filter, limit)).await)
}

fn view(topic: String, miss: &near_miss::NearMiss) -> NearMiss {
    NearMiss { topic, level: miss.level, explanation: miss.why.to_string() }
}

fn match_of(broker: &Broker, filter: &TopicFilter, limit: usize) -> Match {
    let policy = broker.design.policy();
    let mut found = Match {
        planned: Vec::new(),
        live: Vec::new(),
        live_total: 0,
        planned_misses: Vec::new(),
        live_misses: Vec::new(),
    };
    for topic in policy.plan().topics() {
        let levels: Vec<Value<'_>> = topic.levels.iter().map(Value::from).collect();
        match near_miss(filter, &levels) {
            None => found.planned.push(topic.path.clone()),
            Some(miss) => found.planned_misses.push(view(topic.path.clone(), &miss)),
        }
    }
    let live = topic_search::search(&broker.live.topics.walker(), filter, limit);
    found.live_total = live.total;
    found.live = live.caught;
    found.live_misses = live
        .missed
        .into_iter()
        .filter_map(|topic| {
            let levels: Vec<Value<'_>> = topic.split('/').map(Value::Text).collect();
            let miss = near_miss(filter, &levels)?;
            Some(view(topic, &miss))
        })
        .collect();
    found.planned.truncate(limit);
    let misses = &mut found.planned_misses;
    misses.sort_by(|one, other| other.level.cmp(&one.level).then_with(|| one.topic.cmp(&other.topic)));
    misses.truncate(limit);
    found
}
