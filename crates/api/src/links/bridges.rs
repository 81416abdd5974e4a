//! Bridges: how they are, what they would do, and what they are told.

use std::sync::Arc;

use axum::{Extension, Json, extract::State, http::StatusCode};
use moorfall_broker::broker::Broker;
use moorfall_contract::bridges::{BridgeList, BridgePreview, BridgePreviewDraft, BridgeSecret, BridgeView};
use moorfall_core::blueprint::{Blueprint, Source};
use moorfall_links::bridge::{Bridges, Order};
use moorfall_wire::TopicName;

use super::{bridge_view::view, preview};
use crate::{
    http::{
        apart::apart,
        operator::Operator,
        problem::{Body, Fault},
        reading::Path,
        responses::NotFound,
    },
    state::App,
};

/// Topics of one side that may be asked for.
const TOPICS: usize = 1_000;

/// The longest password, bytes ([MQTT-3.1.3.6]).
const SECRET: usize = 65_535;

fn not_found(bridges: &Bridges, name: &str) -> Fault {
    let known: Vec<String> = bridges.all().iter().map(|seen| seen.bridge.name.clone()).collect();
    let known = if known.is_empty() { "none".to_owned() } else { known.join(", ") };
    let detail = format!("There is no bridge {name}. The blueprint in force has: {known}.");
    Fault::new(StatusCode::NOT_FOUND, "Bridge not found", detail)
}

/// List bridges
#[utoipa::path(get, operation_id = "list_bridges", path = "/bridges", tag = "bridges", responses(
    (status = 200, body = BridgeList),
))]
pub async fn list(State(App { broker, bridges, process, .. }): State<App>) -> Json<BridgeList> {
    // How links are is known without the database.
    let secrets = bridges.secrets().await.unwrap_or_default();
    let all = bridges.all();
    let views = all.iter().map(|seen| view(&bridges, seen, secrets.contains(&seen.bridge.name))).collect();
    let demo_link = process.weak_link.as_ref().map(|link| link.state());
    Json(BridgeList { bridges: views, broker: broker.name.public.to_string(), demo_link })
}

/// Get a bridge
#[utoipa::path(get, operation_id = "show_bridge", path = "/bridges/{name}", tag = "bridges", params(("name" = String, Path)), responses(
    (status = 200, body = BridgeView),
    NotFound,
))]
pub async fn show(State(bridges): State<Arc<Bridges>>, Path(name): Path<String>) -> Result<Json<BridgeView>, Fault> {
    let seen = bridges.get(&name).ok_or_else(|| not_found(&bridges, &name))?;
    let secrets = bridges.secrets().await.unwrap_or_default();
    Ok(Json(view(&bridges, &seen, secrets.contains(&name))))
}

/// Preview a bridge
///
/// What becomes of topics, by the blueprint in force or by a draft. Nothing is changed and nothing is sent.
#[utoipa::path(post, operation_id = "preview_bridge", path = "/bridges/{name}/preview", tag = "bridges", params(("name" = String, Path)), request_body = BridgePreviewDraft, responses(
    (status = 200, body = BridgePreview),
    NotFound,
))]
pub async fn preview(
    State(App { broker, bridges, .. }): State<App>,
    Path(name): Path<String>,
    Body(draft): Body<BridgePreviewDraft>,
) -> Result<Json<BridgePreview>, Fault> {
    let BridgePreviewDraft { files, topics, remote_topics } = draft;
    let topics = (read(&topics)?, read(&remote_topics)?);
    let wanted = name.clone();
    let seen = apart(move || preview_of(&broker, files, &wanted, topics)).await?;
    seen.map(Json).ok_or_else(|| not_found(&bridges, &name))
}

fn preview_of(
    broker: &Broker,
    files: Option<Vec<moorfall_contract::design::BlueprintFile>>,
    name: &str,
    topics: (Vec<TopicName>, Vec<TopicName>),
) -> Result<Option<BridgePreview>, Fault> {
    let blueprint = match files {
        None => Arc::clone(broker.design.policy().blueprint()),
        Some(files) => {
            let source = Source::new(files.into_iter().map(Into::into));
            let read = Blueprint::read(source).map_err(|findings| {
                let first = findings.first().map(|finding| finding.message.clone()).unwrap_or_default();
                let detail = format!("The blueprint has errors: {first}. `moorfall topics check` shows all of them.");
                Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "Blueprint with errors", detail)
            })?;
            Arc::new(read)
        }
    };
    let bridge = blueprint.bridges.iter().find(|bridge| bridge.name == name);
    Ok(bridge.map(|bridge| preview::preview(broker, &blueprint, bridge, topics)))
}

fn read(topics: &[String]) -> Result<Vec<TopicName>, Fault> {
    if topics.len() > TOPICS {
        let detail = format!("At most {TOPICS} topics are looked at; {} were given.", topics.len());
        return Err(Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "Too many topics", detail));
    }
    let wrong = |topic: &String, error| {
        let detail = format!("`{topic}` is not a topic: {error}.");
        Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "Invalid topic", detail)
    };
    topics.iter().map(|topic| topic.parse().map_err(|error| wrong(topic, error))).collect()
}

async fn order(app: &App, operator: &Operator, name: String, order: Order) -> Result<Json<BridgeView>, Fault> {
    let bridges = &app.bridges;
    if !bridges.order(&name, order, &operator.author()).await? {
        return Err(not_found(bridges, &name));
    }
    show(State(Arc::clone(bridges)), Path(name)).await
}

/// Pause a bridge
///
/// Its link is closed, also after a restart, until it is resumed. What is to be pushed waits meanwhile.
#[utoipa::path(post, operation_id = "pause_bridge", path = "/bridges/{name}/pause", tag = "bridges", params(("name" = String, Path)), responses(
    (status = 200, body = BridgeView),
    NotFound,
))]
pub async fn pause(
    State(app): State<App>,
    Extension(operator): Extension<Operator>,
    Path(name): Path<String>,
) -> Result<Json<BridgeView>, Fault> {
    order(&app, &operator, name, Order::Pause).await
}

/// Resume a bridge
#[utoipa::path(post, operation_id = "resume_bridge", path = "/bridges/{name}/resume", tag = "bridges", params(("name" = String, Path)), responses(
    (status = 200, body = BridgeView),
    NotFound,
))]
pub async fn resume(
    State(app): State<App>,
    Extension(operator): Extension<Operator>,
    Path(name): Path<String>,
) -> Result<Json<BridgeView>, Fault> {
    order(&app, &operator, name, Order::Resume).await
}

/// Drain a bridge
///
/// It takes nothing new from here, sends what waits, and then rests until it is resumed.
#[utoipa::path(post, operation_id = "drain_bridge", path = "/bridges/{name}/drain", tag = "bridges", params(("name" = String, Path)), responses(
    (status = 200, body = BridgeView),
    NotFound,
))]
pub async fn drain(
    State(app): State<App>,
    Extension(operator): Extension<Operator>,
    Path(name): Path<String>,
) -> Result<Json<BridgeView>, Fault> {
    order(&app, &operator, name, Order::Drain).await
}

/// Connect a bridge anew
///
/// At once, beginning with its first address.
#[utoipa::path(post, operation_id = "retry_bridge", path = "/bridges/{name}/retry", tag = "bridges", params(("name" = String, Path)), responses(
    (status = 200, body = BridgeView),
    NotFound,
))]
pub async fn retry(
    State(app): State<App>,
    Extension(operator): Extension<Operator>,
    Path(name): Path<String>,
) -> Result<Json<BridgeView>, Fault> {
    order(&app, &operator, name, Order::Retry).await
}

/// Set the secret of a bridge
///
/// The password that it shows to its remote, unless its blueprint names a file. It is kept and never shown.
#[utoipa::path(put, operation_id = "set_bridge_secret", path = "/bridges/{name}/secret", tag = "bridges", params(("name" = String, Path)), request_body = BridgeSecret, responses(
    (status = 204),
    NotFound,
))]
pub async fn set_secret(
    State(bridges): State<Arc<Bridges>>,
    Extension(operator): Extension<Operator>,
    Path(name): Path<String>,
    Body(BridgeSecret { secret }): Body<BridgeSecret>,
) -> Result<StatusCode, Fault> {
    if secret.is_empty() || secret.len() > SECRET {
        let detail = format!("A secret has 1 to {SECRET} bytes.");
        return Err(Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "Invalid secret", detail));
    }
    if !bridges.put_secret(&name, Some(&secret), &operator.author()).await? {
        return Err(not_found(&bridges, &name));
    }
    Ok(StatusCode::NO_CONTENT)
}

/// Remove the secret of a bridge
#[utoipa::path(delete, operation_id = "remove_bridge_secret", path = "/bridges/{name}/secret", tag = "bridges", params(("name" = String, Path)), responses(
    (status = 204),
    NotFound,
))]
pub async fn remove_secret(
    State(bridges): State<Arc<Bridges>>,
    Extension(operator): Extension<Operator>,
    Path(name): Path<String>,
) -> Result<StatusCode, Fault> {
    if !bridges.put_secret(&name, None, &operator.author()).await? {
        return Err(not_found(&bridges, &name));
    }
    Ok(StatusCode::NO_CONTENT)
}
