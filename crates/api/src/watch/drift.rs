//! What live traffic does that the plan does not say, and attempts that were refused.

use crate::http::apart::apart;
use crate::{
    http::{
        problem::Problem,
        reading::{Page, Part, Query},
    },
    state::App,
};
use axum::extract::State;
use moorfall_broker::{broker::Broker, clock::date};
use moorfall_core::{Time, access::Act, plan::Breach};
use moorfall_live::silence::{self, Silent};
use serde::{Deserialize, Serialize};
use std::{sync::Arc, time::Duration};
use time::OffsetDateTime;
use tokio::time::Instant;
use utoipa::ToSchema;

/// How traffic and plan differ.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum DriftKind {
    /// The topic is not planned.
    Unplanned,
    /// Messages have another QoS.
    QoS,
    /// Messages are retained and should not be, or the other way round.
    Retention,
    /// Payloads are of another form.
    Payload,
    /// Nothing comes as often as planned.
    Silent,
}

impl std::fmt::Display for DriftKind {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Self::Unplanned => "unplanned",
            Self::QoS => "qos",
            Self::Retention => "retention",
            Self::Payload => "payload",
            Self::Silent => "silent",
        })
    }
}

impl From<Breach> for DriftKind {
    fn from(breach: Breach) -> Self {
        match breach {
            Breach::Unplanned => Self::Unplanned,
            Breach::QoS => Self::QoS,
            Breach::Retention => Self::Retention,
            Breach::Payload => Self::Payload,
        }
    }
}

/// Traffic that the plan does not say.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DriftView {
    /// The topic; for `silent`, the planned path or the topic that fell silent.
    pub topic: String,
    /// What it is.
    pub kind: DriftKind,
    /// In a sentence.
    pub words: String,
    /// Messages.
    pub count: u64,
    /// How many of them were refused.
    pub refused: u64,
    /// When it was seen first.
    #[serde(with = "time::serde::rfc3339")]
    pub first: OffsetDateTime,
    /// When it was seen last.
    #[serde(with = "time::serde::rfc3339")]
    pub last: OffsetDateTime,
    /// Who did it last.
    pub identity: String,
    /// The beginning of a payload.
    pub sample: String,
}

/// What live traffic does that the plan doesn't say, and what the plan says that doesn't happen, newest first.
#[utoipa::path(get, operation_id = "list_drift", path = "/topics/drift", tag = "topics", params(Part), responses(
    (status = 200, body = Vec<DriftView>),
    (status = 401, body = Problem, content_type = "application/problem+json"),
))]
pub async fn drift(State(App { broker, process, people, .. }): State<App>, Query(part): Query<Part>) -> Page {
    let mut drift: Vec<DriftView> = broker
        .live
        .drifts
        .list()
        .into_iter()
        .map(|((topic, breach), seen)| {
            let note = seen.what;
            let words = if note.words.is_empty() { "no planned path holds this topic".into() } else { note.words };
            DriftView {
                topic,
                kind: breach.into(),
                words,
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

/// How long a walk for silent topics is good for at least, and how many times as long as it took: the console asks every
/// two seconds.
const GOOD_FOR_TIMES: u32 = 20;
const GOOD_FOR: Duration = Duration::from_secs(5);

/// Silent topics as they were found: until when that is good, under which revision, and what was found.
type Found = (Instant, i64, Arc<Vec<Silent>>);

/// Silent topics as they were found last.
#[derive(Debug, Default)]
pub struct Silences(tokio::sync::Mutex<Option<Found>>);

impl Silences {
    /// From memory for a while.
    async fn find(&self, broker: &Arc<Broker>) -> Arc<Vec<Silent>> {
        let mut known = self.0.lock().await;
        let revision = broker.design.in_force().revision;
        if let Some((until, of, silent)) = &*known
            && *of == revision
            && Instant::now() < *until
        {
            return Arc::clone(silent);
        }
        let (walked, began) = (Arc::clone(broker), Instant::now());
        let find = move || silence::find(&walked.live.topics, walked.design.policy().plan(), walked.now());
        let silent = Arc::new(apart(find).await);
        let until = Instant::now() + GOOD_FOR.max(began.elapsed() * GOOD_FOR_TIMES);
        *known = Some((until, revision, Arc::clone(&silent)));
        silent
    }
}

fn silent(silent: &Silent, now: Time, started_at: OffsetDateTime) -> DriftView {
    let (words, last, identity) = match &silent.last {
        Some((last, identity)) => {
            let (waited, cadence) = ((now - *last).as_secs(), silent.cadence.as_secs());
            let words = format!("silent for {waited} s; a message is planned every {cadence} s");
            (words, date(*last), identity.to_string())
        }
        None => ("planned, and not heard since the service started".into(), started_at, String::new()),
    };
    DriftView {
        topic: silent.topic.clone(),
        kind: DriftKind::Silent,
        words,
        count: 0,
        refused: 0,
        first: last,
        last,
        identity,
        sample: String::new(),
    }
}

/// Attempts that were refused.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RefusalView {
    /// Who.
    pub identity: String,
    /// By which client, the last time.
    pub client_id: String,
    /// Publishing or subscribing.
    #[schema(value_type = String)]
    pub act: Act,
    /// The topic or filter of the last one, or its beginning.
    pub topic: String,
    /// Why, in a few words that are the same for one cause.
    pub cause: String,
    /// The last one in a sentence.
    pub words: String,
    /// How often.
    pub count: u64,
    /// When it was seen first.
    #[serde(with = "time::serde::rfc3339")]
    pub first: OffsetDateTime,
    /// When it was seen last.
    #[serde(with = "time::serde::rfc3339")]
    pub last: OffsetDateTime,
}

/// Attempts to publish and subscribe that were refused since the start, newest first.
#[utoipa::path(get, operation_id = "list_refusals", path = "/access/refusals", tag = "design", params(Part), responses(
    (status = 200, body = Vec<RefusalView>),
    (status = 401, body = Problem, content_type = "application/problem+json"),
))]
pub async fn refusals(State(broker): State<Arc<Broker>>, Query(part): Query<Part>) -> Page {
    let list = broker.live.refusals.list().into_iter().map(|((identity, act, cause), seen)| RefusalView {
        identity: identity.to_string(),
        client_id: seen.what.client_id,
        act,
        topic: seen.what.topic,
        cause: cause.to_string(),
        words: seen.what.words,
        count: seen.count,
        first: date(seen.first),
        last: date(seen.last),
    });
    part.page(list.collect())
}
