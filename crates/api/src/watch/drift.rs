//! What live traffic does that the plan does not say, and attempts that were refused.
use std::sync::Arc;

use axum::extract::State;
use moorfall_broker::{broker::Broker, clock::date};
use moorfall_contract::topics::{DriftKind, DriftView, RefusalView};
use moorfall_core::{Time, shown::span};
use moorfall_live::silence::Silent;
use time::OffsetDateTime;

use crate::{
    http::reading::{Page, Part, Query},
    state::App,
};

/// List drift
///
/// Differences between live traffic and the plan, newest first.
#[utoipa::path(get, operation_id = "list_drift", path = "/topics/drift", tag = "topics", params(Part), responses(
    (status = 200, body = Vec<DriftView>),
))]
pub async fn drift(State(App { broker, process, people, .. }): State<App>, Query(part): Query<Part>) -> Page {
    let mut drift: Vec<DriftView> = broker
        .live
        .drifts
        .list()
        .into_iter()
        .map(|((topic, breach), seen)| {
            let note = seen.what;
            DriftView {
                topic,
                kind: breach.into(),
                explanation: note.fault.to_string(),
                count: seen.count,
                refused: note.refused,
                first: date(seen.first),
                last: date(seen.last),
                identity: note.identity,
                sample: String::from_utf8_lossy(&note.sample).into_owned(),
            }
        })
        .collect();
    let (now, started_at) = (broker.now(), process.started_at);
    drift.extend(people.silences.find(&broker).await.iter().map(|one| silent(one, now, started_at)));
    part.page(drift)
}

fn silent(silent: &Silent, now: Time, started_at: OffsetDateTime) -> DriftView {
    let (explanation, last, identity) = match &silent.last {
        Some((last, identity)) => {
            let (waited, cadence) = ((now - *last).as_secs(), silent.cadence.as_secs());
            let explanation =
                format!("no message for {}; the plan requires one at least every {}", span(waited), span(cadence));
            (explanation, date(*last), identity.to_string())
        }
        None => ("no message since the service started".into(), started_at, String::new()),
    };
    DriftView {
        topic: silent.topic.clone(),
        kind: DriftKind::Silent,
        explanation,
        count: 0,
        refused: 0,
        first: last,
        last,
        identity,
        sample: String::new(),
    }
}

/// List refusals
///
/// Attempts to publish and subscribe that have been refused since the service started, newest first.
#[utoipa::path(get, operation_id = "list_refusals", path = "/access/refusals", tag = "design", params(Part), responses(
    (status = 200, body = Vec<RefusalView>),
))]
pub async fn refusals(State(broker): State<Arc<Broker>>, Query(part): Query<Part>) -> Page {
    let list = broker.live.refusals.list().into_iter().map(|((identity, act, cause), seen)| RefusalView {
        identity: identity.to_string(),
        client_id: seen.what.client_id,
        act: act.into(),
        topic: seen.what.refusal.topic.to_string(),
        cause: cause.to_string(),
        explanation: seen.what.refusal.to_string(),
        count: seen.count,
        first: date(seen.first),
        last: date(seen.last),
    });
    part.page(list.collect())
}
