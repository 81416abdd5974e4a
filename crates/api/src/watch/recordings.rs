//! Recordings: what became of live messages.
use std::{sync::Arc, time::Duration};

use axum::{Extension, Json, extract::State, http::StatusCode};
use moorfall_broker::{broker::Broker, changes::effects::inner, clock::date, sessions::Sessions};
use moorfall_contract::journeys::{
    Outcome, PlanVerdict, RecipientView, RecordedJourney, RecordedMessage, RecordingDetails, RecordingView,
};
use moorfall_core::Time;
use moorfall_live::journeys::{self as recorder, Across, End, Journey, Lead, Recording, TooMany};
use moorfall_wire::QoS;
use serde::Deserialize;
use utoipa::{IntoParams, ToSchema};

use crate::{
    http::{
        fields::Filter,
        operator::Operator,
        preview::preview_of,
        problem::{Body, Fault},
        reading::{Limit, Path, Query},
        responses::{Conflict, NotFound},
    },
    watch::owners,
};

/// What is to be recorded.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RecordingOrder {
    /// Messages whose topics this filter matches.
    filter: Filter,
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
        preview: preview_of(&journey.topic, &journey.payload, journey.bytes == journey.payload.len()),
        more: journey.bytes > journey.payload.len(),
        refused: journey.refused.as_ref().map_or_else(String::new, ToString::to_string),
        not_owner: journey.not_owner.as_ref().map(owners::not_owner),
        access: journey.publisher.access.as_ref().map_or_else(String::new, ToString::to_string),
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
    let (outcome, explanation) = match (&lead.end, lead.sent) {
        (Some(End::Withheld(why)), None) => (Outcome::Withheld, why.to_string()),
        (Some(End::Withheld(why)), Some(_)) => (Outcome::Withheld, format!("{}; {why}", sent().unwrap_or_default())),
        (Some(End::Answered(_, reason)), _) => {
            let after = short(answered_after.unwrap_or_default());
            if reason.is_error() {
                (Outcome::Refused, format!("refused by the client after {after}: {reason}"))
            } else {
                (Outcome::Acknowledged, format!("acknowledged after {after}"))
            }
        }
        (None, Some(_)) => {
            let explanation = sent().unwrap_or_default();
            let waits = if lead.qos == QoS::AtMostOnce { "" } else { ", not acknowledged yet" };
            (Outcome::Sent, explanation + waits)
        }
        (None, None) => match sessions.registry.get(&lead.client_id).filter(|record| record.key == lead.session) {
            Some(record) if record.is_connected() => (Outcome::Queued, format!("{} queued", record.queue().0)),
            _ => (Outcome::Queued, "the client is disconnected".into()),
        },
    };
    let (outcome, explanation, becomes) = match &lead.across {
        None => (outcome, explanation, None),
        Some(Across::Sent { topic, remote }) => {
            (outcome, format!("{explanation} by {remote}"), Some(topic.to_string()))
        }
        Some(Across::NotCarried { why, said }) => {
            let said = if said.is_empty() { String::new() } else { format!(": {said}") };
            (Outcome::Withheld, format!("not carried across: {why}{said}"), None)
        }
    };
    RecipientView {
        client_id: lead.client_id.clone(),
        identity: lead.identity.to_string(),
        shared: lead.shared.as_ref().map(ToString::to_string).unwrap_or_default(),
        qos: lead.qos.level(),
        outcome,
        explanation,
        becomes,
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
    let detail = format!("There is no recording {number}. The service holds the latest eight.");
    Fault::new(StatusCode::NOT_FOUND, "Recording not found", detail)
}

/// Start a recording
#[utoipa::path(post, operation_id = "begin_recording", path = "/recordings", tag = "recordings", request_body = RecordingOrder, responses(
    (status = 201, body = RecordingView),
    Conflict,
))]
pub async fn begin(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Body(RecordingOrder { filter: Filter(filter), seconds }): Body<RecordingOrder>,
) -> Result<(StatusCode, Json<RecordingView>), Fault> {
    let wrong = |detail: String| Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "Invalid recording", detail);
    let longest = recorder::LONGEST.as_secs();
    if !(1..=longest).contains(&seconds) {
        return Err(wrong(format!("A recording runs for 1 to {longest} seconds, not {seconds}.")));
    }
    let begun = broker.sessions.begin_recording(inner(&filter), Duration::from_secs(seconds), &operator.author());
    let recording = begun.map_err(|TooMany| {
        let detail = "The limit of eight running recordings is reached. Stop one of them.".to_owned();
        Fault::new(StatusCode::CONFLICT, "Too many recordings", detail)
    })?;
    Ok((StatusCode::CREATED, Json(view(&recording))))
}

/// List recordings
///
/// Newest first.
#[utoipa::path(get, operation_id = "list_recordings", path = "/recordings", tag = "recordings", responses(
    (status = 200, body = [RecordingView]),
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
    /// The largest number returned.
    #[serde(default)]
    #[param(value_type = u64, default = 100, minimum = 1, maximum = 500)]
    limit: Limit<100, 500>,
}

/// Get a recording with its messages
///
/// Newest first.
#[utoipa::path(get, operation_id = "show_recording", path = "/recordings/{number}", tag = "recordings", params(("number" = u64, Path), Wanted), responses(
    (status = 200, body = RecordingDetails),
    NotFound,
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

/// Get the journey of a recorded message
#[utoipa::path(get, operation_id = "recorded_journey", path = "/recordings/messages/{number}", tag = "recordings", params(("number" = u64, Path)), responses(
    (status = 200, body = RecordedJourney),
    NotFound,
))]
pub async fn journey(
    State(broker): State<Arc<Broker>>,
    Path(number): Path<u64>,
) -> Result<Json<RecordedJourney>, Fault> {
    let found = broker.live.recorder.journey(number).ok_or_else(|| {
        let detail =
            format!("Message {number} is no longer held. A recording holds its newest {}.", recorder::MESSAGES);
        Fault::new(StatusCode::NOT_FOUND, "Message not found", detail)
    })?;
    let recipients = found.leads.iter().map(|lead| recipient(&broker.sessions, found.at, lead)).collect();
    Ok(Json(RecordedJourney { message: message(&broker.sessions, &found), recipients }))
}

/// Stop a recording
///
/// Its messages stay.
#[utoipa::path(post, operation_id = "stop_recording", path = "/recordings/{number}/stop", tag = "recordings", params(("number" = u64, Path)), responses(
    (status = 200, body = RecordingView),
    NotFound,
))]
pub async fn end(
    State(broker): State<Arc<Broker>>,
    Extension(operator): Extension<Operator>,
    Path(number): Path<u64>,
) -> Result<Json<RecordingView>, Fault> {
    let recording = broker.sessions.end_recording(number, &operator.author()).ok_or_else(|| absent(number))?;
    Ok(Json(view(&recording)))
}
