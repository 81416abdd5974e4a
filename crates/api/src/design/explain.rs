//! Who may do what, and why.
use std::sync::Arc;

use axum::{Json, extract::State, http::StatusCode};
use moorfall_broker::{broker::Broker, changes::effects::inner, judge::Rights};
use moorfall_contract::{
    design::{AccessAnswer, AccessQuestion, RuleVerdict},
    kinds::Act,
};
use moorfall_core::access::{Access, Considered, Decision, Request};
use moorfall_wire::{QoS, TopicFilter, TopicName};

use crate::http::{
    problem::{Body, Fault},
    responses::NotFound,
};

/// Explain access
///
/// Decided as for a live session, with what each rule has to do with it.
#[utoipa::path(post, operation_id = "explain_access", path = "/access/explain", tag = "design", request_body = AccessQuestion, responses(
    (status = 200, body = AccessAnswer),
    NotFound,
))]
pub async fn explain(
    State(broker): State<Arc<Broker>>,
    Body(question): Body<AccessQuestion>,
) -> Result<Json<AccessAnswer>, Fault> {
    let AccessQuestion { identity, client_id, act, topic, qos, retain } = question;
    let wrong = |detail: String| Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "Invalid question", detail);
    let qos = QoS::try_from(qos).map_err(|qos| wrong(format!("There is no QoS {qos}. Use 0, 1 or 2.")))?;
    let client_id = if client_id.is_empty() { identity.clone() } else { client_id };
    let access = match broker.rights(&identity, &client_id) {
        Rights::Unlimited => Access::unrestricted(&identity),
        Rights::Bound(access) => access,
        Rights::None(explanation) => {
            let detail = format!("{identity} can't connect. {explanation}");
            return Err(Fault::new(StatusCode::NOT_FOUND, "Identity not found", detail));
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
    let mut traces: Vec<RuleVerdict> = Vec::with_capacity(rules.len());
    let decision = access.trace(request, |place, considered| {
        let rule = &rules[place];
        let explanation = match &considered {
            Considered::Applies => String::new(),
            Considered::OtherWho => format!("for {}", rule.who),
            Considered::OtherAct => format!("not about {}", request.act().gerund()),
            Considered::NoValue => "the identity does not have an attribute that its topics need".into(),
            Considered::OtherTopics => "other topics".into(),
            Considered::AboveQoS(highest) => format!("allows QoS {highest} at most"),
            Considered::OtherRetention => match rule.limits.retained {
                Some(true) => "only retained messages".into(),
                _ => "only messages that are not retained".into(),
            },
        };
        traces.push(RuleVerdict {
            rule: rule.name.clone(),
            verdict: rule.verdict.into(),
            applies: considered == Considered::Applies,
            decides: false,
            explanation,
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
        explanation: access.explain(request).to_string(),
        highest_qos,
        cohorts: cohorts.unwrap_or_default(),
        rules: traces,
    }
}
