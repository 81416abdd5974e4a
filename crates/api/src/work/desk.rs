//! Clients that people hold at the console.
use std::{sync::Arc, time::Duration};

use axum::{Extension, Json, extract::State, http::StatusCode};
use base64::{Engine, engine::general_purpose::STANDARD};
use moorfall_broker::{attach::Entrance, broker::Broker, clock::date};
use moorfall_client::{Answer, ClientError, ConnectError, Options, Remote};
use moorfall_contract::{
    desk::{DeskAnswer, DeskArrival, DeskClientView, DeskEvent, DeskEvents},
    people::Role,
    retained::NameAndValue,
};
use moorfall_core::{
    ADMINISTRATOR,
    shown::{bytes, count, span},
};
use moorfall_payload::sparkplug;
use moorfall_wire::{ProtocolVersion, Publish, ReasonCode, RetainHandling, Subscription, SubscriptionOptions, Will};
use serde::Deserialize;
use time::OffsetDateTime;
use utoipa::IntoParams;

use super::orders::{DeskFilter, DeskMessage, DeskOrder, DeskSubscription, wrong};
use crate::{
    http::{
        fields::Filter,
        operator::Operator,
        preview::preview,
        problem::{Body, Fault},
        reading::{Path, Query},
        responses::{Conflict, NotFound},
    },
    state::App,
    work::held::{self as desk, CLIENTS, Desk, DeskClient, Happening, NotOpened, What},
};

/// The longest wait for something to happen, seconds.
const LONGEST_WAIT: u64 = 25;

/// What is asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Wanted {
    /// Which clients, and after which happening of each: `ID.NUMBER`, with commas between them.
    of: String,
    /// Wait so many seconds for something to happen to one of them.
    #[serde(default)]
    #[param(default = 0, maximum = 25)]
    wait: u64,
}

fn held(desk: &Desk, id: &str, operator: &Operator) -> Result<Arc<DeskClient>, Fault> {
    desk.get(id, &operator.name).ok_or_else(|| {
        let detail = "There is Client not found of yours on the desk. A client is closed when no console has asked \
                      for it for a minute.";
        Fault::new(StatusCode::NOT_FOUND, "Client not found", detail.to_owned())
    })
}

/// Open a client as an identity
///
/// It is closed when nobody has asked for its events for a minute.
#[utoipa::path(post, operation_id = "open_desk_client", path = "/desk/clients", tag = "desk", request_body = DeskOrder, responses(
    (status = 201, body = DeskClientView),
    Conflict,
))]
pub async fn open(
    State(App { broker, process, desk, .. }): State<App>,
    Extension(operator): Extension<Operator>,
    Body(order): Body<DeskOrder>,
) -> Result<(StatusCode, Json<DeskClientView>), Fault> {
    let DeskOrder { identity, client_id, version, clean_start, session_expiry, keep_alive, will } = order;
    if identity == ADMINISTRATOR && operator.role < Role::Own {
        let detail = "Only people with the `own` role can act as the administrator, who can do everything.".to_owned();
        return Err(Fault::new(StatusCode::FORBIDDEN, "Role not sufficient", detail));
    }
    let will = will.map(DeskMessage::read).transpose()?;
    let will = will.map(|message| Will::new(message.topic, message.payload, message.qos, message.retain));
    let options = Options {
        version: match version.as_str() {
            "5.0" => ProtocolVersion::V5,
            "3.1.1" => ProtocolVersion::V311,
            other => return Err(wrong(format!("Unknown MQTT version \"{other}\". Use 3.1.1 or 5.0."))),
        },
        client_id,
        clean_start,
        session_expiry,
        keep_alive,
        will,
        ..Options::new(Remote::tcp("the broker", 0, Some(identity.clone())))
    };
    let entrance =
        Entrance { seats: &process.reception.seats, listener: &process.http_listener, address: operator.address };
    let opened = desk::open(&desk, &broker, entrance, &options, &identity, &operator.author()).await;
    let client = opened.map_err(|why| match why {
        NotOpened::TooMany => {
            let detail = format!("The desk holds at most {CLIENTS} clients. Close one first.");
            Fault::new(StatusCode::CONFLICT, "Too many clients", detail)
        }
        NotOpened::Refused(ConnectError::Refused { reason, reason_string, .. }) => {
            let said = reason_string.map_or_else(String::new, |said| format!(" {said}"));
            wrong(format!("Refused ({}).{said}", reason.coded()))
        }
        NotOpened::Refused(error) => wrong(error.to_string()),
    })?;
    let connack = client.client.connack();
    let properties = &connack.properties;
    let client_id = client.client_id.clone();
    let limit = |name: &str, value: Option<String>| value.map(|value| format!("{name} {value}"));
    let limits = [
        limit("Session Expiry Interval", properties.session_expiry_interval.map(|seconds| span(seconds.into()))),
        limit("Server Keep Alive", properties.server_keep_alive.map(|seconds| span(seconds.into()))),
        limit("Receive Maximum", properties.receive_maximum.map(|most| count(u64::from(most.get())))),
        limit("Maximum Packet Size", properties.maximum_packet_size.map(|most| bytes(most.get().into()))),
        limit("Maximum QoS", properties.maximum_qos.map(|at_least_once| u8::from(at_least_once).to_string())),
    ];
    let session_present = connack.session_present;
    let limits = limits.into_iter().flatten().collect();
    Ok((StatusCode::CREATED, Json(DeskClientView { id: client.id.clone(), client_id, session_present, limits })))
}

/// Get events of clients
///
/// Waits for one, if asked to.
#[utoipa::path(get, operation_id = "desk_events", path = "/desk/events", tag = "desk", params(Wanted), responses(
    (status = 200, body = Vec<DeskEvents>),
))]
pub async fn events(
    State(App { broker, desk, .. }): State<App>,
    Extension(operator): Extension<Operator>,
    Query(Wanted { of, wait }): Query<Wanted>,
) -> Result<Json<Vec<DeskEvents>>, Fault> {
    let mut asked = Vec::new();
    for one in of.split(',').take(CLIENTS) {
        let number = one.split_once('.').and_then(|(id, number)| Some((id, number.parse::<u64>().ok()?)));
        asked.push(number.ok_or_else(|| wrong(format!("\"{one}\" is not a client and a number, written ID.NUMBER.")))?);
    }
    let held = asked.iter().filter_map(|(id, after)| Some((desk.get(id, &operator.name)?, *after)));
    let held: Vec<_> = held.collect();
    // Whoever asks for one that is gone hears so at once.
    let longest = if held.len() < asked.len() { 0 } else { wait.min(LONGEST_WAIT) };
    tokio::select! {
        () = desk.wait(&held, Duration::from_secs(longest), broker.now()) => {}
        () = broker.common.stopping.cancelled() => {}
    }
    let answer = asked.into_iter().map(|(id, after)| {
        let client = held.iter().find(|(client, _)| client.id == id);
        let (new, dropped) = client.map_or_else(Default::default, |(client, _)| client.after(after));
        let events = new.into_iter().map(event).collect();
        DeskEvents { id: id.to_owned(), open: client.is_some(), events, dropped }
    });
    Ok(Json(answer.collect()))
}

fn event(Happening { number, at, what }: Happening) -> DeskEvent {
    let (message, closed) = match what {
        What::Message(publish) => (Some(arrival(*publish)), String::new()),
        What::Closed(explanation) => (None, explanation),
    };
    DeskEvent { number, at: date(at), message, closed }
}

fn arrival(publish: Publish) -> DeskArrival {
    let properties = &publish.properties;
    let named = |name: &str, value: Option<String>| value.map(|value| NameAndValue { name: name.into(), value });
    let own = properties.user_properties.iter();
    let own = own.map(|one| NameAndValue { name: one.name.to_string(), value: one.value.to_string() });
    let known = [
        named("Content Type", properties.content_type.as_ref().map(ToString::to_string)),
        named("Expires in", properties.message_expiry_interval.map(|seconds| format!("{seconds} s"))),
        named("Response Topic", properties.response_topic.as_ref().map(ToString::to_string)),
        named(
            "Correlation Data",
            properties.correlation_data.as_ref().map(|data| String::from_utf8_lossy(data).into()),
        ),
    ];
    DeskArrival {
        properties: known.into_iter().flatten().chain(own).collect(),
        topic: publish.topic.to_string(),
        payload: std::str::from_utf8(&publish.payload).ok().and_then(|_| preview(&publish.payload)),
        decoded: sparkplug::told(&publish.topic, &publish.payload).map(|told| told.to_string()),
        payload_base64: STANDARD.encode(&publish.payload),
        qos: publish.qos.level(),
        retain: publish.retain,
        duplicate: publish.duplicate,
    }
}

/// A response as people read it. Neither a refused request nor a connection that is gone is a failure of the call.
fn told(answer: Result<Option<Answer>, ClientError>, took: Duration) -> DeskAnswer {
    let milliseconds = Some(took.as_secs_f64() * 1_000.0);
    match answer {
        Ok(Some(Answer { reasons, reason_string, .. })) => {
            let reason = reasons.first().copied();
            let accepted = reason.is_none_or(|reason| !reason.is_error());
            let explanation = match (accepted, reason) {
                (true, None | Some(ReasonCode::Success)) => "Acknowledged".to_owned(),
                (true, Some(ReasonCode::NoMatchingSubscribers)) => "Acknowledged, no subscribers".to_owned(),
                (true, Some(reason)) => reason.words().to_owned(),
                (false, Some(reason)) => format!("Refused ({})", reason.coded()),
                (false, None) => "Refused".to_owned(),
            };
            let explanation = match reason_string {
                Some(said) => format!("{explanation}. {said}"),
                None => explanation,
            };
            DeskAnswer { accepted, reason: reason.map(|reason| reason as u8), explanation, milliseconds }
        }
        Ok(None) => DeskAnswer { accepted: true, reason: None, explanation: "Sent".into(), milliseconds: None },
        Err(error) => DeskAnswer { accepted: false, reason: None, explanation: error.to_string(), milliseconds },
    }
}

/// What a client can't be told: in 3.1.1 a refused message is acknowledged as any other and a refused subscription has no
/// reason, and at QoS 0 there is no response. The session's record knows.
async fn untold(broker: &Broker, client: &DeskClient, since: OffsetDateTime, answer: DeskAnswer) -> DeskAnswer {
    if answer.milliseconds.is_none() {
        // What was sent before is handled before.
        let _gone_or_not = client.client.ping().await;
    }
    let record = broker.sessions.registry.get(&client.client_id);
    let last = record.and_then(|record| record.last_refusal.lock().clone()).filter(|last| last.0 >= since);
    let Some(refusal) = last.map(|last| last.1.to_string()) else { return answer };
    if answer.explanation.contains(&refusal) {
        return answer;
    }
    let explanation = match (answer.accepted, answer.milliseconds) {
        (true, Some(_)) => {
            format!("{}, but dropped. {refusal} (MQTT 3.1.1 cannot report a refusal.)", answer.explanation)
        }
        (true, None) => {
            format!("{}, but dropped. {refusal} (At QoS 0, MQTT cannot report a refusal.)", answer.explanation)
        }
        (false, _) => format!("{}. {refusal}", answer.explanation),
    };
    DeskAnswer { accepted: false, explanation, ..answer }
}

/// Subscribe with a client
#[utoipa::path(post, operation_id = "desk_subscribe", path = "/desk/clients/{id}/subscribe", tag = "desk", params(("id" = String, Path)), request_body = DeskSubscription, responses(
    (status = 200, body = DeskAnswer),
    NotFound,
))]
pub async fn subscribe(
    State(App { broker, desk, .. }): State<App>,
    Extension(operator): Extension<Operator>,
    Path(id): Path<String>,
    Body(wanted): Body<DeskSubscription>,
) -> Result<Json<DeskAnswer>, Fault> {
    let client = held(&desk, &id, &operator)?;
    let options = SubscriptionOptions {
        qos: wanted.qos.0,
        no_local: wanted.no_local,
        retain_as_published: wanted.retain_as_published,
        retain_handling: match wanted.retain_handling {
            0 => RetainHandling::Always,
            1 => RetainHandling::IfNew,
            2 => RetainHandling::Never,
            other => return Err(wrong(format!("There is no Retain Handling {other}. Use 0, 1 or 2."))),
        },
    };
    let subscription = Subscription { filter: wanted.filter.0, options };
    let (began, since) = (std::time::Instant::now(), OffsetDateTime::now_utc());
    let answer = client.client.subscribe(vec![subscription]).await.map(Some);
    Ok(Json(untold(&broker, &client, since, told(answer, began.elapsed())).await))
}

/// Unsubscribe with a client
#[utoipa::path(post, operation_id = "desk_unsubscribe", path = "/desk/clients/{id}/unsubscribe", tag = "desk", params(("id" = String, Path)), request_body = DeskFilter, responses(
    (status = 200, body = DeskAnswer),
    NotFound,
))]
pub async fn unsubscribe(
    State(desk): State<Arc<Desk>>,
    Extension(operator): Extension<Operator>,
    Path(id): Path<String>,
    Body(DeskFilter { filter: Filter(filter) }): Body<DeskFilter>,
) -> Result<Json<DeskAnswer>, Fault> {
    let client = held(&desk, &id, &operator)?;
    let began = std::time::Instant::now();
    let answer = client.client.unsubscribe(vec![filter]).await.map(Some);
    Ok(Json(told(answer, began.elapsed())))
}

/// Publish with a client
#[utoipa::path(post, operation_id = "desk_publish", path = "/desk/clients/{id}/publish", tag = "desk", params(("id" = String, Path)), request_body = DeskMessage, responses(
    (status = 200, body = DeskAnswer),
    NotFound,
))]
pub async fn publish(
    State(App { broker, desk, .. }): State<App>,
    Extension(operator): Extension<Operator>,
    Path(id): Path<String>,
    Body(message): Body<DeskMessage>,
) -> Result<Json<DeskAnswer>, Fault> {
    let client = held(&desk, &id, &operator)?;
    let publish = message.read()?;
    let (began, since) = (std::time::Instant::now(), OffsetDateTime::now_utc());
    let answer = client.client.publish(publish).await;
    Ok(Json(untold(&broker, &client, since, told(answer, began.elapsed())).await))
}

/// Whether a client says goodbye.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct Leaving {
    /// Break the connection without a goodbye, so that the will is published.
    #[serde(default)]
    #[param(default = false)]
    abruptly: bool,
}

/// Close a client
#[utoipa::path(delete, operation_id = "close_desk_client", path = "/desk/clients/{id}", tag = "desk", params(("id" = String, Path), Leaving), responses(
    (status = 204, description = "Closed"),
    NotFound,
))]
pub async fn close(
    State(desk): State<Arc<Desk>>,
    Extension(operator): Extension<Operator>,
    Path(id): Path<String>,
    Query(Leaving { abruptly }): Query<Leaving>,
) -> Result<StatusCode, Fault> {
    held(&desk, &id, &operator)?;
    if let Some(client) = desk.take(&id, &operator.name) {
        if abruptly {
            client.client.abandon().await;
        } else {
            client.client.disconnect().await;
        }
    }
    Ok(StatusCode::NO_CONTENT)
}
