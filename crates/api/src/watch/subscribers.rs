//! Who receives what is published to a topic, or to any topic of a filter.

use std::{collections::BTreeMap, sync::Arc};

use axum::{Json, extract::State};
use moorfall_broker::broker::Broker;
use moorfall_contract::topics::{SubscriptionList, SubscriptionView};
use moorfall_core::router::Subscriber;
use moorfall_wire::TopicFilter;
use serde::Deserialize;
use utoipa::IntoParams;

use crate::http::{
    apart::apart,
    fields::Filter,
    reading::{Limit, Query},
};

/// Which topics are asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Wanted {
    /// A topic, or a topic filter.
    #[param(value_type = String)]
    filter: Filter,
    /// The largest number of subscriptions.
    #[serde(default)]
    #[param(value_type = u64, default = 100, minimum = 1, maximum = 10_000)]
    limit: Limit<100, 10_000>,
}

/// List the subscribers of a topic or filter
///
/// Every subscription whose filter matches a topic that this filter matches, whether its client is connected or not.
#[utoipa::path(get, operation_id = "list_subscribers", path = "/subscribers", tag = "topics", params(Wanted), responses(
    (status = 200, body = SubscriptionList),
))]
pub async fn list(State(broker): State<Arc<Broker>>, Query(wanted): Query<Wanted>) -> Json<SubscriptionList> {
    let Wanted { filter: Filter(filter), limit: Limit(limit) } = wanted;
    Json(apart(move || subscribers(&broker, &filter, limit)).await)
}

/// Group and filter of a subscription.
fn parts(text: &str) -> Option<(String, TopicFilter)> {
    let filter: TopicFilter = text.parse().ok()?;
    match filter.shared() {
        Some(shared) => shared.ok().map(|(group, filter)| (group.to_owned(), filter)),
        None => Some((String::new(), filter)),
    }
}

fn subscribers(broker: &Broker, wanted: &TopicFilter, limit: usize) -> SubscriptionList {
    let wanted = parts(wanted).map_or_else(|| wanted.clone(), |(_, filter)| filter);
    // No more than are asked for are held at a time, however many there are.
    let mut first = BTreeMap::new();
    let mut total = 0;
    broker.sessions.router.each_subscription(|text, _, Subscriber { granted, handle: record, .. }| {
        let Some((group, filter)) = parts(text).filter(|(_, filter)| filter.overlaps(&wanted)) else { return };
        total += 1;
        let key = (record.client_id.clone(), filter.to_string(), group.clone());
        if first.len() >= limit && first.last_key_value().is_some_and(|(last, _)| *last < key) {
            return;
        }
        let view = SubscriptionView {
            client_id: record.client_id.clone(),
            identity: record.identity.to_string(),
            filter: filter.to_string(),
            qos: granted.options.qos.level(),
            group,
            connected: record.is_connected(),
            queue: record.queue().0 as u64,
            condition: granted.condition.as_ref().map(ToString::to_string),
        };
        first.insert(key, view);
        if first.len() > limit {
            first.pop_last();
        }
    });
    SubscriptionList { subscriptions: first.into_values().collect(), total }
}
