//! Who may do what, and why.
use std::sync::Arc;

use axum::{Json, extract::State, http::StatusCode};
use moorfall_broker::{broker::Broker, changes::effects::inner, judge::Rights};
use moorfall_contract::{
    design::{AccessAnswer, AccessQuestion, RuleTrace},
    kinds::Act,
    problem::Problem,
};
use moorfall_core::access::{Access, Considered, Decision, Request};
use moorfall_wire::{QoS, TopicFilter, TopicName};

use crate::http::problem::{Body, Fault};

/// Decide as for a live session, and say what became of every rule.
#[utoipa::path(post, operation_id = "explain_access", path = "/access/explain", tag = "design", request_body = AccessQuestion, responses(
    (status = 200, body = AccessAnswer),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
))]
pub async fn explain(
    State(broker): State<Arc<Broker>>,
    Body(question): Body<AccessQuestion>,
) -> Result<Json<AccessAnswer>, Fault> {
    let AccessQuestion { identity, client_id, act, topic, qos, retain } = question;
    let wrong = |detail: String| Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "question not understood", detail);
    let qos = QoS::try_from(qos).map_err(|qos| wrong(format!("there is no QoS {qos}; it is 0, 1 or 2")))?;
    let client_id = if client_id.is_empty() { identity.clone() } else { client_id };
    let access = match broker.rights(&identity, &client_id) {
        Rights::Unlimited => Access::unrestricted(&identity),
        Rights::Bound(access) => access,
        Rights::None(words) => {
            let detail = format!("{identity} can't connect: {words}");
            return Err(Fault::new(StatusCode::NOT_FOUND, "no such identity", detail));
        }
    };
    match act {
        Act::Publish => {
            let topic = TopicName::new(topic.clone()).map_err(|error| wrong(format!("{topic:?}: {error}")))?;
            Ok(Json(answer(&access, Request::Publish { topic: &topic, qos, retain })))
        }
        Act::Subscribe => {
            let filter = TopicFilter::new(topic.clone()).map_err(|error| wrong(format!("{topic:?}: {error}")))?;
            Ok(Json(answer(&access, Request::Subscribe { filter: &inner(&filter) })))
        }
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
            effect: rule.effect.into(),
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
