//! Who may do what, and why.
use std::sync::Arc;

use axum::{Json, extract::State, http::StatusCode};
use moorfall_broker::{broker::Broker, changes::effects::inner, judge::Rights};
use moorfall_contract::{
    design::{AccessAnswer, RuleVerdict},
    kinds::Act,
};
use moorfall_core::access::{Access, Considered, Decision, Request};
use serde::Deserialize;
use utoipa::ToSchema;

use crate::http::{
    fields::{FieldError, Filter, Qos, Topic},
    problem::{Body, Fault},
    responses::NotFound,
};

/// A question about access.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AccessQuestion {
    /// Who: an identity, or `anonymous`.
    identity: String,
    /// The client identifier, where rules look at it; defaults to the identity's name.
    #[serde(default)]
    client_id: String,
    /// What.
    act: Act,
    /// A topic, or a topic filter.
    topic: String,
    /// At which QoS a message is published.
    #[serde(default)]
    qos: Qos,
    /// Whether it is retained.
    #[serde(default)]
    retain: bool,
}

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
    let wrong = |error: FieldError| Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "Invalid question", error.to_string());
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
            let Topic(topic) = topic.try_into().map_err(wrong)?;
            Ok(Json(answer(&access, Request::Publish { topic: &topic, qos: qos.0, retain })))
        }
        Act::Subscribe => {
            let Filter(filter) = topic.try_into().map_err(wrong)?;
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
