//! The live topic hierarchy, what filters catch, and where traffic and plan differ.

use std::{
    sync::{Arc, atomic::Ordering},
    time::Duration,
};

use axum::{Json, extract::State, http::StatusCode};
use moorfall_core::{Time, access::Act, blueprint::PathLevel, plan::Breach};
use moorfall_wire::{TopicFilter, TopicName};
use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use tokio::time::Instant;
use utoipa::{IntoParams, ToSchema};

use super::{
    preview,
    problem::Problem,
    reading::{Limit, Page, Part, Query},
    state::App,
};
use crate::{
    broker::Broker,
    clock::date,
    effects::inner,
    silence::{self, Silent},
    topic_search,
    topics::{First, View},
};

/// One level of the live hierarchy. Its counts are those of the topic that ends here, if one does, and of all below.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TopicView {
    /// The level's text.
    pub level: String,
    /// The whole path to it.
    pub path: String,
    /// Topics that end here or below.
    pub topics: u64,
    /// Whether there are levels below.
    pub has_children: bool,
    /// Whether a topic ends here.
    pub is_topic: bool,
    /// Messages since the service started.
    pub messages: u64,
    /// Their bytes of payload, topic and properties.
    pub bytes: u64,
    /// Messages per second, averaged over ten seconds.
    pub rate: f64,
    /// When the last message came.
    #[serde(with = "time::serde::rfc3339")]
    pub last: OffsetDateTime,
    /// Who published to this very topic last; empty if nobody did.
    pub publisher: String,
    /// The beginning of what was published to this very topic last; null if that is no text, or if nothing was.
    pub value: Option<String>,
    /// Bytes of its payload.
    pub value_bytes: u64,
    /// The number that payloads of this very topic are, or the first that stands in them as a field: one every five
    /// seconds at most, the last 24, oldest first.
    pub numbers: Vec<f32>,
    /// Whether this very topic has a retained message.
    pub retained: bool,
    /// The planned path of this very topic; empty if it is not planned.
    pub planned: String,
    /// Sessions that receive what is published to this very topic, of each shared subscription one.
    pub subscribers: u64,
}

/// Levels of the live hierarchy.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TopicList {
    /// The whole below the prefix.
    pub total: TopicView,
    /// Levels right below, or topics.
    pub levels: Vec<TopicView>,
    /// How many there are, listed or not.
    pub count: u64,
    /// Whether the blueprint plans topics.
    pub has_plan: bool,
    /// Messages on topics that are not in the hierarchy, because it has as many levels as it may.
    pub unfollowed: u64,
    /// Memory that the hierarchy takes, about, bytes.
    pub memory_bytes: u64,
    /// How much it may take; topics beyond it are not followed, and only counted.
    pub memory_most: u64,
}

/// Which levels are asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Wanted {
    /// The levels right below this one; those at the top if left out.
    prefix: Option<String>,
    /// `name`, or `rate` for the busiest first.
    #[serde(default)]
    sort: String,
    /// Topics themselves, however deep, in place of levels.
    #[serde(default)]
    whole: bool,
    /// At most so many.
    #[serde(default)]
    #[param(value_type = u64, default = 200, minimum = 1, maximum = 5_000)]
    limit: Limit<200, 5_000>,
}

/// The live topic hierarchy, level by level.
#[utoipa::path(get, operation_id = "list_topics", path = "/topics", tag = "topics", params(Wanted), responses(
    (status = 200, body = TopicList),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn list(
    State(broker): State<Arc<Broker>>,
    Query(wanted): Query<Wanted>,
) -> Result<Json<TopicList>, Problem> {
    apart(move || list_of(&broker, &wanted)).await.map(Json)
}

/// Does what may walk through a million topics, away from the connection tasks.
pub(super) async fn apart<R: Send + 'static>(work: impl FnOnce() -> R + Send + 'static) -> R {
    tokio::task::spawn_blocking(work).await.expect("the work does not panic, and is not cancelled")
}

fn list_of(broker: &Broker, wanted: &Wanted) -> Result<TopicList, Problem> {
    let now = broker.now();
    let prefix =
        wanted.prefix.as_deref().map(|prefix| prefix.trim_end_matches('/')).filter(|prefix| !prefix.is_empty());
    let total = match prefix {
        None => broker.live.topics.total(now),
        Some(prefix) => broker.live.topics.view(prefix, now).ok_or_else(|| {
            let detail = format!("nothing was published at or below {prefix} since the service started");
            Problem::new(StatusCode::NOT_FOUND, "no such topic", detail)
        })?,
    };
    let first = if wanted.sort == "rate" { First::ByRate } else { First::ByName };
    let most = wanted.limit.0;
    let (levels, count) = if wanted.whole {
        broker.live.topics.whole(prefix, first, most, now)
    } else {
        broker.live.topics.below(prefix, first, most, now)
    };
    let has_plan = !broker.design.policy().plan().topics().is_empty();
    let levels = levels.into_iter().map(|level| view(broker, level)).collect();
    let unfollowed = broker.live.topics.unfollowed.load(Ordering::Relaxed);
    let (memory_bytes, memory_most) = broker.live.topics.size();
    let (memory_bytes, memory_most) = (memory_bytes as u64, memory_most as u64);
    let count = count as u64;
    Ok(TopicList { total: view(broker, total), levels, count, has_plan, unfollowed, memory_bytes, memory_most })
}

pub(super) fn view(broker: &Broker, view: View) -> TopicView {
    let publisher = view.publisher().map(ToString::to_string).unwrap_or_default();
    let View { level, path, topics, has_children, is_topic, messages, bytes, rate, last, value } = view;
    let name = TopicName::new(path.clone()).ok().filter(|_| is_topic);
    let route = name.as_ref().map(|name| broker.sessions.router.route(name));
    let policy = broker.design.policy();
    let planned = policy.plan().find(&path).filter(|_| is_topic);
    TopicView {
        level,
        topics: topics.into(),
        has_children,
        is_topic,
        messages,
        bytes,
        rate: if rate < 0.001 { 0.0 } else { rate },
        last: date(last),
        publisher,
        value: value.as_ref().and_then(|value| preview(&value.preview)),
        value_bytes: value.as_ref().map_or(0, |value| value.bytes as u64),
        numbers: value.map(|value| value.numbers()).unwrap_or_default(),
        retained: name.as_ref().is_some_and(|name| broker.sessions.router.retained_of(name).is_some()),
        planned: planned.map(|place| policy.plan().topics()[place].path.clone()).unwrap_or_default(),
        subscribers: route.map_or(0, |route| (route.recipients.len() + route.groups.len()) as u64),
        path,
    }
}

/// A topic or planned path that a filter nearly catches.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NearMiss {
    /// The topic or path.
    pub topic: String,
    /// The level at which it falls out, from 1.
    pub level: u64,
    /// Why, in a sentence.
    pub words: String,
}

/// What a filter catches.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Match {
    /// Planned paths of which it catches some or all topics.
    pub planned: Vec<String>,
    /// Topics that were published to.
    pub live: Vec<String>,
    /// How many there are, listed or not.
    pub live_total: u64,
    /// Planned paths that it does not catch, with the reason; those that go furthest first.
    pub planned_misses: Vec<NearMiss>,
    /// Topics that were published to, in the same way.
    pub live_misses: Vec<NearMiss>,
}

/// Which filter is asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Filter {
    /// The topic filter.
    filter: String,
    /// At most so many of each.
    #[serde(default)]
    #[param(value_type = u64, default = 20, minimum = 1, maximum = 1_000)]
    limit: Limit<20, 1_000>,
}

/// Which planned and which live topics a filter catches, and which near misses it doesn't, and where each falls out.
#[utoipa::path(get, operation_id = "match_topics", path = "/topics/match", tag = "topics", params(Filter), responses(
    (status = 200, body = Match),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn matches(
    State(broker): State<Arc<Broker>>,
    Query(wanted): Query<Filter>,
) -> Result<Json<Match>, Problem> {
    let filter = TopicFilter::new(wanted.filter.clone()).map_err(|error| {
        let detail = format!("{:?} is not a topic filter: {error}", wanted.filter);
        Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "not a topic filter", detail)
    })?;
    let filter = inner(&filter);
    let limit = wanted.limit.0;
    Ok(Json(apart(move || match_of(&broker, &filter, limit)).await))
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
        let levels: Vec<Value<'_>> = topic.levels.iter().map(Value::of).collect();
        match fall_out(filter, &levels) {
            None => found.planned.push(topic.path.clone()),
            Some((level, words)) => {
                found.planned_misses.push(NearMiss { topic: topic.path.clone(), level, words });
            }
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
            let (level, words) = fall_out(filter, &levels)?;
            Some(NearMiss { topic, level, words })
        })
        .collect();
    found.planned.truncate(limit);
    let misses = &mut found.planned_misses;
    misses.sort_by(|one, other| other.level.cmp(&one.level).then_with(|| one.topic.cmp(&other.topic)));
    misses.truncate(limit);
    found
}

/// What stands at one level.
enum Value<'a> {
    Text(&'a str),
    /// One of a level's values.
    Named(&'a moorfall_core::Level),
}

impl<'a> Value<'a> {
    fn of(level: &'a PathLevel) -> Self {
        match level {
            PathLevel::Text(text) => Self::Text(text),
            PathLevel::Named(level) => Self::Named(level),
        }
    }

    fn show(&self) -> String {
        match self {
            Self::Text(text) => format!("`{text}`"),
            Self::Named(level) => format!("{{{}}}", level.name),
        }
    }
}

/// At which level a topic falls out of a filter, from 1, and why; `None` if it is caught.
fn fall_out(filter: &TopicFilter, levels: &[Value<'_>]) -> Option<(u64, String)> {
    let wanted: Vec<&str> = filter.levels().collect();
    for (index, want) in wanted.iter().enumerate() {
        let at = index as u64 + 1;
        let hidden = index == 0 && matches!(levels.first(), Some(Value::Text(text)) if text.starts_with('$'));
        if hidden && matches!(*want, "+" | "#") {
            return Some((at, format!("`{want}` at the first level leaves out what begins with $")));
        }
        if *want == "#" {
            return None;
        }
        match levels.get(index) {
            None => return Some((at, format!("the filter goes on with `{want}`, and the topic ends before"))),
            Some(_) if *want == "+" => {}
            Some(Value::Text(text)) if text == want => {}
            Some(Value::Named(level)) if level.holds(want) => {}
            Some(value) => return Some((at, format!("the filter wants `{want}`, and there is {}", value.show()))),
        }
    }
    let ends = wanted.len();
    levels
        .get(ends)
        .map(|value| (ends as u64 + 1, format!("the filter ends before {}; /# would catch it", value.show())))
}

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
pub(crate) async fn drift(State(App { broker, process, people, .. }): State<App>, Query(part): Query<Part>) -> Page {
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
                first: seen.first,
                last: seen.last,
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
pub(crate) struct Silences(tokio::sync::Mutex<Option<Found>>);

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

/// Which topic is to be planned.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct ToPlan {
    /// The topic, as it was published to.
    topic: String,
}

/// Lines for a blueprint.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PlanLines {
    /// To be added to a file of the blueprint.
    pub text: String,
}

/// Lines for a blueprint that plan a topic as it was published to, which no planned path holds yet.
#[utoipa::path(get, operation_id = "plan_topic", path = "/topics/plan", tag = "topics", params(ToPlan), responses(
    (status = 200, body = PlanLines),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
))]
pub(crate) async fn plan(
    State(broker): State<Arc<Broker>>,
    Query(ToPlan { topic }): Query<ToPlan>,
) -> Result<Json<PlanLines>, Problem> {
    let known = broker.live.topics.view(&topic, broker.now()).filter(|view| view.is_topic);
    let view = known.map(|known| view(&broker, known)).ok_or_else(|| {
        let detail = format!("nothing was published to {topic} itself; `moorfall topics tree` shows where");
        Problem::new(StatusCode::NOT_FOUND, "no such topic", detail)
    })?;
    if !view.planned.is_empty() {
        let detail = format!("{topic} is planned: it is one of {}", view.planned);
        return Err(Problem::new(StatusCode::CONFLICT, "topic is planned", detail));
    }
    let drift = broker.live.drifts.list().into_iter().find(|((known, _), _)| *known == topic);
    let sample = drift.map(|(_, seen)| seen.what.sample).unwrap_or_default();
    let payload = match serde_json::from_slice::<serde_json::Value>(&sample) {
        Ok(value) if value.is_number() => "number",
        Ok(_) => "json",
        Err(_) if sample.is_empty() || std::str::from_utf8(&sample).is_err() => "bytes",
        Err(_) => "text",
    };
    let retained = if view.retained { "required" } else { "never" };
    let path = toml::Value::from(topic.as_str());
    let text =
        format!("[[topics]]\npath = {path}\npurpose = \"\"\npayload = \"{payload}\"\nretained = \"{retained}\"\n");
    Ok(Json(PlanLines { text }))
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
pub(crate) async fn refusals(State(broker): State<Arc<Broker>>, Query(part): Query<Part>) -> Page {
    let list = broker.live.refusals.list().into_iter().map(|((identity, act, cause), seen)| RefusalView {
        identity: identity.to_string(),
        client_id: seen.what.client_id,
        act,
        topic: seen.what.topic,
        cause: cause.to_string(),
        words: seen.what.words,
        count: seen.count,
        first: seen.first,
        last: seen.last,
    });
    part.page(list.collect())
}
