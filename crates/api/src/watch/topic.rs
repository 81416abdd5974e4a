//! One topic: its last messages, who publishes and subscribes to it, and what the design says of it.
use std::sync::Arc;

use axum::{Json, extract::State, http::StatusCode};
use moorfall_broker::{broker::Broker, clock::date, sessions::record::SessionRecord};
use moorfall_contract::derived::DerivedTopicView;
use moorfall_contract::topics::{MadeBy, Makes, PlanEntry, RuleOnTopic, SubscriberView, TopicDetails, TopicMessage};
use moorfall_core::{
    access::Act,
    blueprint::Rule,
    router::{Recipient, Way},
};
use moorfall_links::derived::DerivedTopics;
use moorfall_live::topics::gathered::{SeenMessage, WATCHED};
use moorfall_wire::TopicName;
use serde::Deserialize;
use utoipa::IntoParams;

use crate::{
    http::{apart::apart, fields::Topic, preview::preview_of, problem::Fault, reading::Query, responses::Conflict},
    links::derived,
    state::App,
    watch::{owners, topics::view},
};

/// Subscribers that are named.
const NAMED: usize = 200;

/// Which topic is asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Wanted {
    /// The topic.
    #[param(value_type = String)]
    topic: Topic,
    /// Only messages after the one of this number.
    #[serde(default)]
    #[param(default = 0)]
    after: u64,
}

/// Get a topic
///
/// Its messages are collected from the first call on, until nobody has asked for a minute.
#[utoipa::path(get, operation_id = "show_topic", path = "/topics/topic", tag = "topics", params(Wanted), responses(
    (status = 200, body = TopicDetails),
    Conflict,
))]
pub async fn show(
    State(App { broker, derived, .. }): State<App>,
    Query(Wanted { topic: Topic(topic), after }): Query<Wanted>,
) -> Result<Json<TopicDetails>, Fault> {
    apart(move || details(&broker, &derived, topic, after)).await.map(Json)
}

fn details(broker: &Broker, derived: &DerivedTopics, topic: TopicName, after: u64) -> Result<TopicDetails, Fault> {
    let now = broker.now();
    let gathered = broker.live.topics.look(&topic, after, now).ok_or_else(|| {
        let detail =
            format!("The limit of {WATCHED} topics that are watched at a time is reached. Try again in a minute.");
        Fault::new(StatusCode::CONFLICT, "Too many topics watched", detail)
    })?;
    let policy = broker.design.policy();
    let plan = policy.plan();
    let planned = plan.find(&topic).map(|place| &plan.topics()[place]);
    let route = broker.sessions.router.route(&topic);
    let direct = route.recipients.iter().map(|recipient| subscriber(recipient, String::new(), &[]));
    let conditional = route.conditional.iter().map(|one| subscriber(&one.at_best(), String::new(), one.ways()));
    let shared = route.groups.iter().flat_map(|group| {
        let name = |member: &Recipient<Arc<SessionRecord>>| {
            member.via.as_ref().and_then(|via| via.shared.as_ref()).map(ToString::to_string).unwrap_or_default()
        };
        let member = move |way: &Way<_>| subscriber(&way.recipient, name(&way.recipient), std::slice::from_ref(way));
        group.members().iter().map(member)
    });
    let mut subscribers: Vec<SubscriberView> = direct.chain(conditional).chain(shared).collect();
    subscribers.sort_by(|one, other| (&one.client_id, &one.shared).cmp(&(&other.client_id, &other.shared)));
    let subscribers_total = subscribers.len() as u64;
    subscribers.truncate(NAMED);
    Ok(TopicDetails {
        about: broker.live.topics.view(&topic, now).filter(|found| found.is_topic).map(|found| view(broker, found)),
        plan: planned.map(|planned| PlanEntry {
            path: planned.path.clone(),
            purpose: planned.purpose.clone(),
            payload: planned.payload.to_string(),
            qos: planned.qos.map(moorfall_wire::QoS::level),
            retained: planned.retained.into(),
            cadence: planned.cadence.map(|cadence| cadence.as_secs()),
        }),
        has_plan: !plan.topics().is_empty(),
        owned: owners::ownership(broker, &topic),
        made_by: derived
            .makers_of(&topic)
            .into_iter()
            .map(|(name, known)| {
                let DerivedTopicView { sources, quality, .. } = derived::topic(known);
                MadeBy { derived: name, sources, quality }
            })
            .collect(),
        makes: derived
            .made_of(&topic)
            .into_iter()
            .map(|(name, to)| Makes { derived: name, topic: to.to_string() })
            .collect(),
        rules: policy.blueprint().rules.iter().filter_map(|rule| rule_on(rule, &topic)).collect(),
        subscribers,
        subscribers_total,
        messages: gathered.messages.iter().map(|seen| message(&topic, seen)).collect(),
        gathered_since: date(gathered.since),
        left_out: gathered.left_out,
    })
}

fn message(topic: &str, seen: &SeenMessage) -> TopicMessage {
    TopicMessage {
        number: seen.number,
        at: date(seen.at),
        publisher: seen.publisher.to_string(),
        qos: seen.qos.level(),
        retain: seen.retain,
        bytes: seen.bytes as u64,
        payload: preview_of(topic, &seen.payload, seen.bytes == seen.payload.len()),
    }
}

/// A rule as far as it is about a topic; of templates nobody knows here whose values they take.
fn rule_on(rule: &Rule, topic: &str) -> Option<RuleOnTopic> {
    let topics = rule.topics.iter().filter(|pattern| pattern.of_anyone().holds(topic));
    let topics: Vec<String> = topics.map(ToString::to_string).collect();
    (!topics.is_empty()).then(|| RuleOnTopic {
        rule: rule.name.clone(),
        verdict: rule.verdict.into(),
        who: rule.who.to_string(),
        publish: rule.acts.contains(&Act::Publish),
        subscribe: rule.acts.contains(&Act::Subscribe),
        topics,
    })
}

fn subscriber(
    recipient: &Recipient<Arc<SessionRecord>>,
    shared: String,
    ways: &[Way<Arc<SessionRecord>>],
) -> SubscriberView {
    let record = &recipient.handle;
    let conditions = ways.iter().filter(|way| !way.conditions().is_empty());
    let all = |way: &Way<_>| way.conditions().iter().map(ToString::to_string).collect::<Vec<_>>().join(" && ");
    SubscriberView {
        client_id: record.client_id.clone(),
        identity: record.identity.to_string(),
        qos: recipient.qos.level(),
        shared,
        connected: record.is_connected(),
        queue: record.queue().0 as u64,
        conditions: conditions.map(all).collect(),
    }
}
