//! Who may do what, and why.

use std::{collections::BTreeMap, sync::Arc};

use axum::{Json, extract::State, http::StatusCode};
use moorfall_core::{
    Identity, TopicSet,
    access::{Access, Act, Considered, Decision, Policy, Request},
};
use moorfall_wire::{QoS, TopicFilter, TopicName};
use serde::Deserialize;
use utoipa::IntoParams;

use super::{
    design_types::{AccessAnswer, AccessQuestion, Matrix, MatrixRow, Right, Rights as Cell, RuleTrace},
    problem::{Body, Problem},
    reading::{Limit, Query},
};
use crate::{broker::Broker, effects::inner, judge::Rights};

/// Decide as for a live session, and say what became of every rule.
#[utoipa::path(post, operation_id = "explain_access", path = "/access/explain", tag = "design", request_body = AccessQuestion, responses(
    (status = 200, body = AccessAnswer),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn explain(
    State(broker): State<Arc<Broker>>,
    Body(question): Body<AccessQuestion>,
) -> Result<Json<AccessAnswer>, Problem> {
    let AccessQuestion { identity, client_id, act, topic, qos, retain } = question;
    let wrong = |detail: String| Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "question not understood", detail);
    let qos = QoS::try_from(qos).map_err(|qos| wrong(format!("there is no QoS {qos}; it is 0, 1 or 2")))?;
    let client_id = if client_id.is_empty() { identity.clone() } else { client_id };
    let access = match broker.rights(&identity, &client_id) {
        Rights::Unlimited => Access::unrestricted(&identity),
        Rights::Bound(access) => access,
        Rights::None(words) => {
            let detail = format!("{identity} can't connect: {words}");
            return Err(Problem::new(StatusCode::NOT_FOUND, "no such identity", detail));
        }
    };
    match act.as_str() {
        "publish" => {
            let topic = TopicName::new(topic.clone()).map_err(|error| wrong(format!("{topic:?}: {error}")))?;
            Ok(Json(answer(&access, Request::Publish { topic: &topic, qos, retain })))
        }
        "subscribe" => {
            let filter = TopicFilter::new(topic.clone()).map_err(|error| wrong(format!("{topic:?}: {error}")))?;
            Ok(Json(answer(&access, Request::Subscribe { filter: &inner(&filter) })))
        }
        other => Err(wrong(format!("there is no act {other:?}; it is publish or subscribe"))),
    }
}

pub(super) fn answer(access: &Access, request: Request<'_>) -> AccessAnswer {
    let rules = access.policy().map(|policy| policy.blueprint().rules.as_slice()).unwrap_or_default();
    let mut traces: Vec<RuleTrace> = Vec::with_capacity(rules.len());
    let decision = access.trace(request, |place, considered| {
        let rule = &rules[place];
        let words = match &considered {
            Considered::Applies => String::new(),
            Considered::OtherWho => format!("it is about {}", rule.who),
            Considered::OtherAct => format!("it is not about {}", request.act().gerund()),
            Considered::NoValue => "the identity lacks an attribute that its topics are made of".into(),
            Considered::OtherTopics => "it is about other topics".into(),
            Considered::AboveQoS(highest) => format!("it allows up to QoS {highest}"),
            Considered::OtherRetention => match rule.limits.retained {
                Some(true) => "it is about retained messages".into(),
                _ => "it is about messages that are not retained".into(),
            },
        };
        traces.push(RuleTrace {
            rule: rule.name.clone(),
            effect: format!("{:?}", rule.effect).to_lowercase(),
            applies: considered == Considered::Applies,
            decides: false,
            words,
        });
    });
    let (allowed, highest_qos, deciding) = match decision {
        Decision::Allowed { rules, highest_qos, .. } => (true, highest_qos.level(), rules),
        Decision::Denied(rule) => (false, 0, vec![rule]),
        Decision::NotAllowed(_) => (false, 0, Vec::new()),
    };
    deciding.into_iter().for_each(|place| traces[place].decides = true);
    let cohorts =
        access.policy().map(|policy| policy.cohorts_of(&access.subject().identity).map(str::to_owned).collect());
    AccessAnswer {
        allowed,
        words: access.explain(request),
        highest_qos,
        cohorts: cohorts.unwrap_or_default(),
        rules: traces,
    }
}

/// Which rows are asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Wanted {
    /// `cohorts` or `identities`.
    #[serde(default = "by_cohorts")]
    by: String,
    /// Only rows whose name holds this text.
    #[serde(default)]
    search: String,
    /// At most so many.
    #[serde(default)]
    #[param(value_type = u64, default = 200, minimum = 1, maximum = 5_000)]
    limit: Limit<200, 5_000>,
}

fn by_cohorts() -> String {
    "cohorts".into()
}

/// Who may publish and subscribe to which planned topics. Beside the cohorts stand identities that rules name.
#[utoipa::path(get, operation_id = "access_matrix", path = "/access/matrix", tag = "design", params(Wanted), responses(
    (status = 200, body = Matrix),
    (status = 401, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn matrix(State(broker): State<Arc<Broker>>, Query(wanted): Query<Wanted>) -> Json<Matrix> {
    let made = tokio::task::spawn_blocking(move || matrix_of(&broker, &wanted)).await;
    Json(made.expect("making a matrix does not panic, and is not cancelled"))
}

fn matrix_of(broker: &Broker, wanted: &Wanted) -> Matrix {
    let policy = broker.design.policy();
    let blueprint = policy.blueprint();
    let population = broker.population();
    let mut groups: Vec<(String, Vec<&Identity>)> = Vec::new();
    if wanted.by == "identities" {
        groups.extend(population.values().map(|identity| (identity.name.to_string(), vec![identity])));
    } else {
        let mut members: BTreeMap<&str, Vec<&Identity>> = BTreeMap::new();
        let mut alone = Vec::new();
        for identity in population.values() {
            let mut cohorts = policy.cohorts_of(identity).peekable();
            if cohorts.peek().is_none() {
                alone.push((identity.name.to_string(), vec![identity]));
            }
            cohorts.for_each(|cohort| members.entry(cohort).or_default().push(identity));
        }
        let of = |name: &String| (name.clone(), members.remove(name.as_str()).unwrap_or_default());
        groups.extend(blueprint.cohorts.keys().map(of));
        groups.extend(alone);
    }
    groups.retain(|(name, _)| name.contains(&wanted.search));
    let total = groups.len() as u64;
    groups.truncate(wanted.limit.0);
    let tied = broker.identities.directory.tied();
    let rows = groups.into_iter().map(|(name, members)| row(&policy, name, &members, &tied)).collect();
    let topics = blueprint.topics.iter().map(|topic| topic.path.clone()).collect();
    Matrix { topics, rows, total }
}

/// Members that are looked at for one cohort: enough to see whether they differ.
const LOOKED_AT: usize = 50;

fn row(policy: &Arc<Policy>, name: String, members: &[&Identity], tied: &BTreeMap<Arc<str>, String>) -> MatrixRow {
    let topics = &policy.blueprint().topics;
    let mut rights = vec![Cell { publish: Right::None, subscribe: Right::None }; topics.len()];
    let mut first = true;
    for identity in members.iter().take(LOOKED_AT) {
        let client_id = tied.get(&identity.name).map(String::as_str);
        let Ok(access) = policy.bind_any(identity, client_id) else { continue };
        for (rights, topic) in rights.iter_mut().zip(topics) {
            let publish = right(&access, Act::Publish, &topic.set);
            let subscribe = right(&access, Act::Subscribe, &topic.set);
            *rights = if first {
                Cell { publish, subscribe }
            } else {
                Cell { publish: both(rights.publish, publish), subscribe: both(rights.subscribe, subscribe) }
            };
        }
        first = false;
    }
    MatrixRow { name, identities: members.len() as u64, rights }
}

fn both(one: Right, other: Right) -> Right {
    if one == other { one } else { Right::Some }
}

fn right(access: &Access, act: Act, topics: &TopicSet) -> Right {
    match access.reach(act, topics) {
        (true, _) => Right::All,
        (false, true) => Right::Some,
        (false, false) => Right::None,
    }
}
