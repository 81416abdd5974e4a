//! Recordings: what became of live messages.
use std::{sync::Arc, time::Duration};

use axum::{Extension, Json, extract::State, http::StatusCode};
use moorfall_broker::{broker::Broker, changes::effects::inner, clock::date, sessions::Sessions};
use moorfall_contract::{
    journeys::{
        Outcome, PlanVerdict, RecipientView, RecordedJourney, RecordedMessage, RecordingDetails, RecordingView,
    },
    problem::Problem,
};
use moorfall_core::Time;
use moorfall_live::journeys::{self as recorder, End, Journey, Lead, Recording, TooMany};
use moorfall_wire::{QoS, TopicFilter};
use serde::Deserialize;
use utoipa::{IntoParams, ToSchema};

use crate::http::{
    operator::Operator,
    preview::preview,
    problem::{Body, Fault},
    reading::{Limit, Path, Query},
};

/// What is to be recorded.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RecordingOrder {
    /// Messages whose topics this filter matches.
    filter: String,
    /// For how long, seconds; an hour at most.
    #[schema(minimum = 1, maximum = 3_600)]
    seconds: u64,
}

fn view(recording: &Recording) -> RecordingView {
    RecordingView {
        number: recording.number,
        filter: recording.filter.to_string(),
        by: recording.by.clone(),
        began_at: date(recording.began),
        ends_at: date(recording.ends),
        running: recording.is_running,
        seen: recording.seen,
        left_out: recording.left_out,
        held: recording.held() as u64,
    }
}

fn message(sessions: &Sessions, journey: &Journey) -> RecordedMessage {
    let outcomes: Vec<Outcome> =
        journey.leads.iter().map(|lead| recipient(sessions, journey.at, lead).outcome).collect();
    let number = |wanted: &[Outcome]| outcomes.iter().filter(|outcome| wanted.contains(outcome)).count() as u64;
    RecordedMessage {
        number: journey.number,
        at: date(journey.at),
        topic: journey.topic.to_string(),
        identity: journey.publisher.identity.clone(),
        client_id: journey.publisher.client_id.clone(),
        qos: journey.qos.level(),
        retain: journey.retain,
        bytes: journey.bytes as u64,
        preview: preview(&journey.payload),
        more: journey.bytes > journey.payload.len(),
        refused: journey.refused.clone(),
        access: journey.publisher.access.clone(),
        plan: journey.publisher.plan.clone().map(PlanVerdict::from),
        recipients: journey.total,
        queued: number(&[Outcome::Queued]),
        sent: number(&[Outcome::Sent]),
        acknowledged: number(&[Outcome::Acknowledged]),
        withheld: number(&[Outcome::Withheld, Outcome::Refused]),
    }
}

fn recipient(sessions: &Sessions, began: Time, lead: &Lead) -> RecipientView {
    let millis = |from: Time, to: Time| (to - from).as_micros() as f64 / 1_000.0;
    let sent_after = lead.sent.map(|sent| millis(began, sent));
    let answered_after = match &lead.end {
        Some(End::Answered(at, _)) => Some(millis(began, *at)),
        _ => None,
    };
    let sent = || sent_after.map(|millis| format!("sent after {}", short(millis)));
    let (outcome, words) = match (&lead.end, lead.sent) {
        (Some(End::Withheld(why)), None) => (Outcome::Withheld, why.to_string()),
        (Some(End::Withheld(why)), Some(_)) => (Outcome::Withheld, format!("{}; {why}", sent().unwrap_or_default())),
        (Some(End::Answered(_, reason)), _) => {
            let after = short(answered_after.unwrap_or_default());
            if reason.is_error() {
                (Outcome::Refused, format!("the client does not take it: {reason}, after {after}"))
            } else {
                (Outcome::Acknowledged, format!("acknowledged after {after}"))
            }
        }
        (None, Some(_)) => {
            let words = sent().unwrap_or_default();
            let waits = if lead.qos == QoS::AtMostOnce { "" } else { ", not acknowledged yet" };
            (Outcome::Sent, words + waits)
        }
        (None, None) => match sessions.registry.get(&lead.client_id).filter(|record| record.key == lead.session) {
            Some(record) if record.is_connected() => {
                (Outcome::Queued, format!("waits to be sent: {} in its queue", record.queue().0))
            }
            _ => (Outcome::Queued, "its client is away".into()),
        },
    };
    RecipientView {
        client_id: lead.client_id.clone(),
        identity: lead.identity.to_string(),
        shared: lead.shared.as_ref().map(ToString::to_string).unwrap_or_default(),
        qos: lead.qos.level(),
        outcome,
        words,
        sent_after,
        answered_after,
    }
}

fn short(millis: f64) -> String {
    match millis {
        ..10.0 => format!("{millis:.2} ms"),
        ..1_000.0 => format!("{millis:.0} ms"),
        _ => format!("{:.1} s", millis / 1_000.0),
    }
}

fn absent(number: u64) -> Fault {
    let detail = format!("there is no recording {number}; the service holds the last eight since it started");
    Fault::new(StatusCode::NOT_FOUND, "no such recording", detail)
}

/// Record what becomes of live messages, for a while.
#[utoipa::path(post, operation_id = "begin_recording", path = "/recordings", tag = "recordings", request_body = RecordingOrder, responses(
    (status = 201, body = RecordingView),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
))]
pub async fn begin(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Body(RecordingOrder { filter, seconds }): Body<RecordingOrder>,
) -> Result<(StatusCode, Json<RecordingView>), Fault> {
    let wrong = |detail: String| Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "recording not acceptable", detail);
    let filter = TopicFilter::new(filter.clone()).map_err(|error| wrong(format!("{filter:?}: {error}")))?;
    let longest = recorder::LONGEST.as_secs();
    if !(1..=longest).contains(&seconds) {
        return Err(wrong(format!("a recording takes from 1 to {longest} seconds, and not {seconds}")));
    }
    let begun = broker.sessions.begin_recording(inner(&filter), Duration::from_secs(seconds), &operator.author());
    let recording = begun.map_err(|TooMany| {
        let detail = "eight recordings run already, as many as may; end one of them".to_owned();
        Fault::new(StatusCode::CONFLICT, "too many recordings", detail)
    })?;
    Ok((StatusCode::CREATED, Json(view(&recording))))
}

/// The recordings that the service holds, the newest first.
#[utoipa::path(get, operation_id = "list_recordings", path = "/recordings", tag = "recordings", responses(
    (status = 200, body = [RecordingView]),
    (status = 401, body = Problem, content_type = "application/problem+json"),
))]
pub async fn list(State(broker): State<Arc<Broker>>) -> Json<Vec<RecordingView>> {
    Json(broker.live.recorder.all(broker.now()).iter().map(view).collect())
}

/// Which messages are asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Wanted {
    /// Only those after the message of this number.
    #[serde(default)]
    #[param(default = 0)]
    after: u64,
    /// At most so many.
    #[serde(default)]
    #[param(value_type = u64, default = 100, minimum = 1, maximum = 500)]
    limit: Limit<100, 500>,
}

/// A recording and its messages, the newest first.
#[utoipa::path(get, operation_id = "show_recording", path = "/recordings/{number}", tag = "recordings", params(("number" = u64, Path), Wanted), responses(
    (status = 200, body = RecordingDetails),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub async fn show(
    State(broker): State<Arc<Broker>>,
    Path(number): Path<u64>,
    Query(wanted): Query<Wanted>,
) -> Result<Json<RecordingDetails>, Fault> {
    let most = wanted.limit.0.min(recorder::MESSAGES);
    let shown = broker.live.recorder.show(number, wanted.after, most, broker.now());
    let (recording, journeys) = shown.ok_or_else(|| absent(number))?;
    Ok(Json(RecordingDetails {
        recording: view(&recording),
        messages: journeys.iter().map(|journey| message(&broker.sessions, journey)).collect(),
    }))
}

/// What became of one recorded message.
#[utoipa::path(get, operation_id = "recorded_journey", path = "/recordings/messages/{number}", tag = "recordings", params(("number" = u64, Path)), responses(
    (status = 200, body = RecordedJourney),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub async fn journey(
    State(broker): State<Arc<Broker>>,
    Path(number): Path<u64>,
) -> Result<Json<RecordedJourney>, Fault> {
    let found = broker.live.recorder.journey(number).ok_or_else(|| {
        let detail = format!("message {number} is not held; a recording holds its newest {}", recorder::MESSAGES);
        Fault::new(StatusCode::NOT_FOUND, "no such message", detail)
    })?;
    let recipients = found.leads.iter().map(|lead| recipient(&broker.sessions, found.at, lead)).collect();
    Ok(Json(RecordedJourney { message: message(&broker.sessions, &found), recipients }))
}

/// End a recording; what it holds stays.
#[utoipa::path(post, operation_id = "end_recording", path = "/recordings/{number}/end", tag = "recordings", params(("number" = u64, Path)), responses(
    (status = 200, body = RecordingView),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
pub async fn end(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Path(number): Path<u64>,
) -> Result<Json<RecordingView>, Fault> {
    let recording = broker.sessions.end_recording(number, &operator.author()).ok_or_else(|| absent(number))?;
    Ok(Json(view(&recording)))
}
