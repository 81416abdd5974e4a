//! Clients that people hold at the console.
use std::{sync::Arc, time::Duration};

use axum::{Extension, Json, extract::State, http::StatusCode};
use base64::{Engine, engine::general_purpose::STANDARD};
use moorfall_broker::{attach::Entrance, broker::Broker, clock::date};
use moorfall_client::{Answer, ClientError, ConnectError, Options, Remote};
use moorfall_contract::{
    desk::{DeskAnswer, DeskArrival, DeskClientView, DeskHappening, DeskHappenings},
    people::Role,
    problem::Problem,
    retained::NameAndValue,
};
use moorfall_core::ADMINISTRATOR;
use moorfall_wire::{ProtocolVersion, Publish, RetainHandling, Subscription, SubscriptionOptions, Will};
use serde::Deserialize;
use time::OffsetDateTime;
use utoipa::IntoParams;

use super::orders::{DeskFilter, DeskMessage, DeskOrder, DeskSubscription, read_filter, read_qos, wrong};
use crate::{
    http::{
        operator::Operator,
        preview::preview,
        problem::{Body, Fault},
        reading::{Path, Query},
    },
    state::App,
    work::held::{self as desk, CLIENTS, Desk, DeskClient, Happening, NotOpened, What},
};

/// The longest wait for something to happen, seconds.
const PATIENCE: u64 = 25;

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
        let detail = "there is no such client of yours on the desk; one that nobody asks for is closed after a minute";
        Fault::new(StatusCode::NOT_FOUND, "no such client", detail.to_owned())
    })
}

/// Open a client as an identity. It is closed when nobody has asked for a minute what happened to it.
#[utoipa::path(post, operation_id = "open_desk_client", path = "/desk/clients", tag = "desk", request_body = DeskOrder, responses(
    (status = 201, body = DeskClientView),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
))]
pub async fn open(
    State(App { broker, process, desk, .. }): State<App>,
    Extension(operator): Extension<Operator>,
    Body(order): Body<DeskOrder>,
) -> Result<(StatusCode, Json<DeskClientView>), Fault> {
    let DeskOrder { identity, client_id, version, clean_start, session_expiry, keep_alive, will } = order;
    if identity == ADMINISTRATOR && operator.role < Role::Own {
        let detail = "only somebody with the role own may act as the administrator, who may do everything".to_owned();
        return Err(Fault::new(StatusCode::FORBIDDEN, "role not sufficient", detail));
    }
    let will = will.map(DeskMessage::read).transpose()?;
    let will = will.map(|message| Will::new(message.topic, message.payload, message.qos, message.retain));
    let options = Options {
        version: match version.as_str() {
            "5.0" => ProtocolVersion::V5,
            "3.1.1" => ProtocolVersion::V311,
            other => return Err(wrong(format!("there is no version {other:?}; it is 3.1.1 or 5.0"))),
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
            let detail = format!("there are {CLIENTS} clients on the desk, or as many connections as may be");
            Fault::new(StatusCode::CONFLICT, "too many clients", detail)
        }
        NotOpened::Refused(ConnectError::Refused { reason, words, .. }) => {
            wrong(words.map_or_else(|| reason.to_string(), |words| format!("{words}: {reason}")))
        }
        NotOpened::Refused(error) => wrong(error.to_string()),
    })?;
    let connack = client.client.connack();
    let properties = &connack.properties;
    let client_id = client.client_id.clone();
    let term = |name: &str, value: Option<String>| value.map(|value| format!("{name} {value}"));
    let terms = [
        term("session kept for", properties.session_expiry_interval.map(|seconds| format!("{seconds} s"))),
        term("keep alive", properties.server_keep_alive.map(|seconds| format!("{seconds} s"))),
        term("at most unacknowledged:", properties.receive_maximum.map(|most| most.to_string())),
        term("largest packet:", properties.maximum_packet_size.map(|most| format!("{most} B"))),
        term("highest QoS", properties.maximum_qos.map(|at_least_once| u8::from(at_least_once).to_string())),
    ];
    let session_present = connack.session_present;
    let terms = terms.into_iter().flatten().collect();
    Ok((StatusCode::CREATED, Json(DeskClientView { id: client.id.clone(), client_id, session_present, terms })))
}

/// What happened to clients; waits for something, if asked to.
#[utoipa::path(get, operation_id = "desk_happenings", path = "/desk/happenings", tag = "desk", params(Wanted), responses(
    (status = 200, body = Vec<DeskHappenings>),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
))]
pub async fn happenings(
    State(App { broker, desk, .. }): State<App>,
    Extension(operator): Extension<Operator>,
    Query(Wanted { of, wait }): Query<Wanted>,
) -> Result<Json<Vec<DeskHappenings>>, Fault> {
    let mut asked = Vec::new();
    for one in of.split(',').take(CLIENTS) {
        let number = one.split_once('.').and_then(|(id, number)| Some((id, number.parse::<u64>().ok()?)));
        asked.push(number.ok_or_else(|| wrong(format!("{one:?} is not a client and a number, as `ID.NUMBER`")))?);
    }
    let held = asked.iter().filter_map(|(id, after)| Some((desk.get(id, &operator.name)?, *after)));
    let held: Vec<_> = held.collect();
    // Whoever asks for one that is gone is told so at once.
    let patience = if held.len() < asked.len() { 0 } else { wait.min(PATIENCE) };
    tokio::select! {
        () = desk.wait(&held, Duration::from_secs(patience), broker.now()) => {}
        () = broker.common.stopping.cancelled() => {}
    }
    let answer = asked.into_iter().map(|(id, after)| {
        let client = held.iter().find(|(client, _)| client.id == id);
        let (new, dropped) = client.map_or_else(Default::default, |(client, _)| client.after(after));
        let happenings = new.into_iter().map(happening).collect();
        DeskHappenings { id: id.to_owned(), held: client.is_some(), happenings, dropped }
    });
    Ok(Json(answer.collect()))
}

fn happening(Happening { number, at, what }: Happening) -> DeskHappening {
    let (message, closed) = match what {
        What::Message(publish) => (Some(arrival(*publish)), String::new()),
        What::Closed(words) => (None, words),
    };
    DeskHappening { number, at: date(at), message, closed }
}

fn arrival(publish: Publish) -> DeskArrival {
    let properties = &publish.properties;
    let named = |name: &str, value: Option<String>| value.map(|value| NameAndValue { name: name.into(), value });
    let own = properties.user_properties.iter();
    let own = own.map(|one| NameAndValue { name: one.name.to_string(), value: one.value.to_string() });
    let known = [
        named("content type", properties.content_type.as_ref().map(ToString::to_string)),
        named("expires in", properties.message_expiry_interval.map(|seconds| format!("{seconds} s"))),
        named("answer to", properties.response_topic.as_ref().map(ToString::to_string)),
        named("correlation", properties.correlation_data.as_ref().map(|data| String::from_utf8_lossy(data).into())),
    ];
    DeskArrival {
        properties: known.into_iter().flatten().chain(own).collect(),
        topic: publish.topic.to_string(),
        payload: std::str::from_utf8(&publish.payload).ok().and_then(|_| preview(&publish.payload)),
        payload_base64: STANDARD.encode(&publish.payload),
        qos: publish.qos.level(),
        retain: publish.retain,
        duplicate: publish.duplicate,
    }
}

/// An answer as people read it. Neither a refused request nor a connection that is gone is a failure of the call.
fn told(answer: Result<Option<Answer>, ClientError>, took: Duration) -> DeskAnswer {
    let took = Some(took.as_secs_f64() * 1_000.0);
    match answer {
        Ok(Some(Answer { reasons, words })) => {
            let reason = reasons.first().copied();
            let said = reason.map_or_else(|| "done".to_owned(), |reason| reason.words().to_owned());
            let words = words.map_or_else(|| said.clone(), |words| format!("{said}: {words}"));
            DeskAnswer {
                accepted: reason.is_none_or(|reason| !reason.is_error()),
                reason: reason.map(|r| r as u8),
                words,
                took,
            }
        }
        Ok(None) => DeskAnswer { accepted: true, reason: None, words: "sent".into(), took: None },
        Err(error) => DeskAnswer { accepted: false, reason: None, words: error.to_string(), took },
    }
}

/// What a client is not told: in 3.1.1 a refused message is acknowledged as any other and a refused subscription has no
/// reason, and at QoS 0 there is no answer. The session's record knows.
async fn untold(broker: &Broker, client: &DeskClient, since: OffsetDateTime, answer: DeskAnswer) -> DeskAnswer {
    if answer.took.is_none() {
        // What was sent before is handled before.
        let _gone_or_not = client.client.ping().await;
    }
    let record = broker.sessions.registry.get(&client.client_id);
    let refusal = record.and_then(|record| record.last_refusal.lock().clone()).filter(|refusal| refusal.at >= since);
    match refusal {
        Some(refusal) if answer.accepted => {
            let words = format!("{}, and dropped all the same: {}", answer.words, refusal.words);
            DeskAnswer { accepted: false, words, ..answer }
        }
        Some(refusal) if !answer.words.contains(&refusal.words) => {
            DeskAnswer { words: format!("{}: {}", answer.words, refusal.words), ..answer }
        }
        _ => answer,
    }
}

/// Have a client subscribe.
#[utoipa::path(post, operation_id = "desk_subscribe", path = "/desk/clients/{id}/subscribe", tag = "desk", params(("id" = String, Path)), request_body = DeskSubscription, responses(
    (status = 200, body = DeskAnswer),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
))]
pub async fn subscribe(
    State(App { broker, desk, .. }): State<App>,
    Extension(operator): Extension<Operator>,
    Path(id): Path<String>,
    Body(wanted): Body<DeskSubscription>,
) -> Result<Json<DeskAnswer>, Fault> {
    let client = held(&desk, &id, &operator)?;
    let options = SubscriptionOptions {
        qos: read_qos(wanted.qos)?,
        no_local: wanted.no_local,
        retain_as_published: wanted.retain_as_published,
        retain_handling: match wanted.retain_handling {
            0 => RetainHandling::Always,
            1 => RetainHandling::IfNew,
            2 => RetainHandling::Never,
            other => return Err(wrong(format!("there is no retain handling {other}; it is 0, 1 or 2"))),
        },
    };
    let subscription = Subscription { filter: read_filter(wanted.filter)?, options };
    let (began, since) = (std::time::Instant::now(), OffsetDateTime::now_utc());
    let answer = client.client.subscribe(vec![subscription]).await.map(Some);
    Ok(Json(untold(&broker, &client, since, told(answer, began.elapsed())).await))
}

/// Have a client unsubscribe.
#[utoipa::path(post, operation_id = "desk_unsubscribe", path = "/desk/clients/{id}/unsubscribe", tag = "desk", params(("id" = String, Path)), request_body = DeskFilter, responses(
    (status = 200, body = DeskAnswer),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
))]
pub async fn unsubscribe(
    State(desk): State<Arc<Desk>>,
    Extension(operator): Extension<Operator>,
    Path(id): Path<String>,
    Body(DeskFilter { filter }): Body<DeskFilter>,
) -> Result<Json<DeskAnswer>, Fault> {
    let client = held(&desk, &id, &operator)?;
    let filter = read_filter(filter)?;
    let began = std::time::Instant::now();
    let answer = client.client.unsubscribe(vec![filter]).await.map(Some);
    Ok(Json(told(answer, began.elapsed())))
}

/// Have a client publish.
#[utoipa::path(post, operation_id = "desk_publish", path = "/desk/clients/{id}/publish", tag = "desk", params(("id" = String, Path)), request_body = DeskMessage, responses(
    (status = 200, body = DeskAnswer),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 422, body = Problem, content_type = "application/problem+json"),
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

/// Close a client.
#[utoipa::path(delete, operation_id = "close_desk_client", path = "/desk/clients/{id}", tag = "desk", params(("id" = String, Path), Leaving), responses(
    (status = 204, description = "Closed"),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
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
