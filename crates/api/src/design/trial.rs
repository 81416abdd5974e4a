//! What would become of a message: may it be published, does the plan allow it, and who receives it how? Nothing is sent.
use std::sync::Arc;

use axum::{Json, extract::State, http::StatusCode};
use moorfall_broker::{
    broker::Broker,
    clock::date,
    judge::Rights,
    sessions::record::{Place, SessionRecord},
};
use moorfall_contract::{
    journeys::{Journey, Outcome, PlanVerdict, RecipientView},
    owners::OwnerTrial,
};
use moorfall_core::{
    Condition, Judging, QueuePolicy,
    access::{Access, Request},
    blueprint::Bridge,
    bridge::{Direction, Mapped},
    owned::{NotOwner, Publishing},
    router::{Conditional, Recipient},
};
use moorfall_links::derived::DerivedTopics;
use moorfall_wire::{QoS, TopicName};
use serde::Deserialize;
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::{
    design::explain::answer,
    http::{
        apart::apart,
        fields::{Qos, Topic},
        problem::{Body, Fault},
        responses::NotFound,
    },
    links::derived,
    state::App,
    watch::owners,
};

/// Recipients that are named at most.
const NAMED: usize = 1_000;

/// A message that might be published.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct JourneyQuestion {
    /// Whose message it is; `administrator` may do everything.
    identity: String,
    /// The client identifier; that of defaults to the identity's name.
    #[serde(default)]
    client_id: String,
    /// The topic.
    topic: Topic,
    /// The payload.
    #[serde(default)]
    payload: String,
    /// The quality of service.
    #[serde(default)]
    qos: Qos,
    /// Whether it is to be retained.
    #[serde(default)]
    retain: bool,
}

/// Preview the journey of a message
///
/// Nothing is published.
#[utoipa::path(post, operation_id = "try_journey", path = "/journey", tag = "design", request_body = JourneyQuestion, responses(
    (status = 200, body = Journey),
    NotFound,
))]
pub async fn journey(
    State(App { broker, derived, .. }): State<App>,
    Body(question): Body<JourneyQuestion>,
) -> Result<Json<Journey>, Fault> {
    apart(move || follow(&broker, &derived, question)).await.map(Json)
}

fn follow(broker: &Broker, derived: &DerivedTopics, question: JourneyQuestion) -> Result<Journey, Fault> {
    let JourneyQuestion { identity, client_id, topic: Topic(name), payload, qos: Qos(qos), retain } = question;
    let client_id = if client_id.is_empty() { identity.clone() } else { client_id };
    let access = match broker.rights(&identity, &client_id) {
        Rights::Unlimited => Access::unrestricted(&identity),
        Rights::Bound(access) => access,
        Rights::None(why) => {
            let detail = format!("{identity} can't connect. {why}");
            return Err(Fault::new(StatusCode::NOT_FOUND, "Identity not found", detail));
        }
    };
    let owned = owned(broker, &name, &client_id, &access);
    let access = answer(&access, Request::Publish { topic: &name, qos, retain });
    let policy = broker.design.policy();
    let plan = PlanVerdict::from(policy.plan().judge(&name, qos, retain, payload.as_bytes()));
    let accepted = access.allowed && !plan.refused;
    let explanation = match (access.allowed, plan.refused) {
        (false, _) => access.explanation.clone(),
        (true, true) => plan.explanation.clone(),
        (true, false) => "The broker accepts it.".into(),
    };
    let mut journey = Journey {
        accepted,
        explanation,
        access,
        plan,
        owned,
        retained: if retain { retained_of(broker, &name, payload.is_empty()) } else { String::new() },
        total: 0,
        recipients: Vec::new(),
        makes: Vec::new(),
    };
    let is_heard = journey.owned.as_ref().is_none_or(|owned| owned.not_owner.is_none());
    if accepted && is_heard {
        let makes = derived.try_all(&name, payload.as_bytes(), (qos, retain)).into_iter();
        journey.makes = makes.map(|(by, to, made)| derived::outcome(&by, &to, made)).collect();
        let weight = payload.len() + name.len();
        let route = broker.sessions.router.route(&name);
        let before = broker.sessions.router.before(&name);
        let judging = Judging::new(&name, payload.as_bytes(), (qos.level(), retain), before.as_deref());
        let direct = route.recipients.iter().map(|one| (one.clone(), String::new(), None));
        let conditional = route.conditional.iter().map(|one| judged(one, &judging));
        let shared = route.groups.iter().flat_map(|group| {
            let others = group.members().len();
            let judging = &judging;
            group
                .members()
                .iter()
                .map(move |way| (way.recipient.clone(), format!("one of {others}"), why_not(way.conditions(), judging)))
        });
        let mut leads: Vec<_> = direct.chain(conditional).chain(shared).collect();
        leads.sort_by(|(one, ..), (other, ..)| one.handle.client_id.cmp(&other.handle.client_id));
        journey.total = leads.len() as u64;
        // What each would get takes a look at all rules: only for those that are named.
        leads.truncate(NAMED);
        journey.recipients = leads
            .into_iter()
            .map(|(recipient, shared, not)| {
                let mut view = view(broker, &recipient, shared, &name, qos, &client_id, weight);
                if let Some(why) = not.filter(|_| view.outcome != Outcome::Withheld) {
                    (view.outcome, view.explanation) = (Outcome::Withheld, why);
                }
                view
            })
            .collect();
    }
    Ok(journey)
}

/// Whether whoever publishes would be heard, if the topic has owners. What messages say of their strength is not asked.
fn owned(broker: &Broker, topic: &TopicName, client_id: &str, access: &Access) -> Option<OwnerTrial> {
    let paths = broker.sessions.router.owned();
    let by = paths.find(topic)?;
    let strength = by.strength.of(|| Some(&access.subject().identity.attributes), &[]);
    let publishing = Publishing { client_id, identity: access.name(), strength };
    let owner = broker.sessions.owned.would_keep_back(topic, publishing);
    Some(OwnerTrial {
        strength,
        not_owner: owner.map(|owner| owners::not_owner(&NotOwner::OwnedBy(owner))),
        owner: broker.sessions.owned.see(topic).map(|seen| owners::claimant(&seen.owner)),
    })
}

/// A recipient, the shared subscription, and why it does not receive the message.
type Lead = (Recipient<Arc<SessionRecord>>, String, Option<String>);

/// Whether a session of which it depends on the message receives it, and else why not.
fn judged(one: &Conditional<Arc<SessionRecord>>, judging: &Judging<'_>) -> Lead {
    let mut why = one.ways().iter().map(|way| why_not(way.conditions(), judging));
    // One way is enough.
    let mut first = None;
    let is_received = why.any(|why| {
        let is_open = why.is_none();
        first = first.take().or(why);
        is_open
    });
    (one.at_best(), String::new(), first.filter(|_| !is_received))
}

/// Why a message is not received by a subscription with these conditions; `None` if it is.
fn why_not(conditions: &[Arc<Condition>], judging: &Judging<'_>) -> Option<String> {
    conditions.iter().find_map(|condition| match judging.evaluate(condition) {
        Ok(true) => None,
        Ok(false) => Some(format!("{condition} is not true")),
        Err(why) => Some(format!("{condition} can't be judged: {why}")),
    })
}

fn retained_of(broker: &Broker, topic: &TopicName, clears: bool) -> String {
    match (broker.sessions.router.retained_of(topic), clears) {
        (Some(before), true) => format!("clears the retained message of {}", date(before.received).date()),
        (None, true) => "clears nothing: the topic has no retained message".into(),
        (Some(before), false) => format!("replaces the retained message of {}", date(before.received).date()),
        (None, false) => "becomes the retained message of the topic".into(),
    }
}

fn view(
    broker: &Broker,
    recipient: &Recipient<Arc<SessionRecord>>,
    shared: String,
    topic: &TopicName,
    qos: QoS,
    publisher: &str,
    weight: usize,
) -> RecipientView {
    let record = &recipient.handle;
    let qos = qos.min(recipient.qos);
    let (outcome, explanation) = fate(broker, recipient, topic, qos, publisher, weight);
    RecipientView {
        client_id: record.client_id.clone(),
        identity: record.identity.to_string(),
        shared,
        qos: qos.level(),
        outcome,
        explanation,
        becomes: becomes(broker, &record.client_id, topic),
        sent_after: None,
        answered_after: None,
    }
}

/// What a topic becomes on the other side, if this is the session of a bridge that pushes.
fn becomes(broker: &Broker, client_id: &str, topic: &TopicName) -> Option<String> {
    let policy = broker.design.policy();
    let is_its = |bridge: &&Bridge| bridge.client_id(Direction::Push) == client_id;
    let bridge = policy.blueprint().bridges.iter().find(is_its)?;
    match bridge.taken(Direction::Push, topic) {
        Some((_, Mapped::To(name))) => Some(name.to_string()),
        _ => None,
    }
}

/// What a session would get now, and why.
fn fate(
    broker: &Broker,
    recipient: &Recipient<Arc<SessionRecord>>,
    topic: &TopicName,
    qos: QoS,
    publisher: &str,
    weight: usize,
) -> (Outcome, String) {
    let record = &recipient.handle;
    if recipient.no_local && record.client_id == publisher {
        return (Outcome::Withheld, "own message of the client, which asked for No Local".into());
    }
    match broker.rights(&record.identity, &record.client_id) {
        Rights::Bound(access) if !access.may_receive(topic) => {
            return (Outcome::Withheld, format!("a rule denies {} this topic", record.identity));
        }
        Rights::None(why) => return (Outcome::Withheld, why.to_string()),
        _ => {}
    }
    let (waiting, _) = record.queue();
    let told = |waiting| match waiting {
        1 => "1 message queued".to_owned(),
        waiting => format!("{waiting} messages queued"),
    };
    match record.full(weight) {
        Some(QueuePolicy::DropNewest) => {
            return (
                Outcome::Withheld,
                format!("the queue is full ({}), and the newest message is dropped", told(waiting)),
            );
        }
        Some(QueuePolicy::EndSession) => {
            return (Outcome::Withheld, format!("the queue is full ({}), and the session ends", told(waiting)));
        }
        // The oldest makes room.
        Some(QueuePolicy::DropOldest) | None => {}
    }
    let before = match waiting {
        0 => "no messages queued".to_owned(),
        waiting => format!("{} before it", told(waiting)),
    };
    if let Place::Parked(parked) = &*record.place.lock() {
        let since = date(parked.since);
        return match qos {
            QoS::AtMostOnce => (Outcome::Withheld, "disconnected, and QoS 0 messages are not queued".into()),
            _ => (Outcome::Queued, format!("disconnected since {}; {before}", clock_time(since))),
        };
    }
    (Outcome::Sent, format!("connected; {before}"))
}

/// Date and time of day (UTC), to the second.
fn clock_time(at: OffsetDateTime) -> String {
    let (hour, minute, second) = (at.hour(), at.minute(), at.second());
    format!("{} {hour:02}:{minute:02}:{second:02} UTC", at.date())
}
