//! The state of the service.
use std::{collections::BTreeMap, sync::atomic::Ordering};

use axum::{Json, extract::State};
use moorfall_broker::{broker::Broker, listeners::listener::Listener};
use moorfall_contract::status::{Health, Limits, ListenerView, Status};
use time::OffsetDateTime;

use super::warnings::warnings;
use crate::state::App;

/// Raised alerts that are told.
const ALERTS: usize = 10;

/// Get the status of the service
///
/// Its listeners, its traffic, its warnings.
#[utoipa::path(get, path = "/status", tag = "service", responses(
    (status = 200, body = Status),
))]
pub async fn status(State(app): State<App>) -> Json<Status> {
    let App { broker, process, watch, alerts, .. } = &app;
    let raised = alerts.raised();
    let database = health(broker);
    let totals = broker.live.counters.read().totals();
    let addresses = &process.addresses;
    let design = broker.design.in_force();
    let (retained, retained_bytes) = broker.sessions.router.retained_size();
    let uptime = OffsetDateTime::now_utc() - process.started_at;
    Json(Status {
        version: env!("CARGO_PKG_VERSION").into(),
        started_at: process.started_at,
        uptime_seconds: uptime.whole_seconds().try_into().unwrap_or(0),
        listeners: process.listeners.iter().chain([&process.http_listener]).map(|listener| view(listener)).collect(),
        http: format!("http://{}", addresses.http),
        data: addresses.data.clone(),
        blueprint: design.policy.blueprint().name.clone(),
        revision: design.revision,
        open: broker.identities.is_open(),
        warnings: warnings(&app, &database),
        database,
        sessions: broker.sessions.registry.connected() as u64,
        sessions_away: broker.sessions.registry.count().saturating_sub(broker.sessions.registry.connected()) as u64,
        raised_alerts: raised.len() as u64,
        worst_alerts: raised.into_iter().take(ALERTS).collect(),
        drifts: broker.live.drifts.count() as u64,
        has_inbox: process.inbox.is_some(),
        unwritten: broker.sessions.journal.backlog() as u64,
        subscriptions: broker.sessions.router.subscription_count() as u64,
        retained: retained as u64,
        retained_bytes: retained_bytes as u64,
        identities: broker.identities.directory.count() as u64,
        rates: watch.average().into(),
        totals: totals.into(),
        limits: limits(&broker.limits),
        turned_away: turned_away(&app),
    })
}

/// What limits have turned away since the start, by their names.
fn turned_away(App { broker, process, people, .. }: &App) -> BTreeMap<String, u64> {
    let seats = process.reception.seats.turned_away();
    let identities = broker.sessions.registry.no_room();
    let counts = [
        ("connections", seats.connections),
        ("connects_per_second", seats.connects_per_second),
        ("connecting_per_address", seats.connecting_per_address),
        ("connecting_bytes", seats.connecting_bytes),
        ("waiting_sign_ins_per_address", broker.identities.directory.passwords.turned_away()),
        ("sessions_per_identity", identities.sessions),
        ("subscription_bytes_per_identity", identities.subscriptions),
        ("conditions_per_identity", identities.conditions),
        ("queue_bytes_per_identity", identities.queues),
        ("retained_bytes_per_identity", identities.retained),
        ("hierarchy_bytes", broker.live.topics.unfollowed.load(Ordering::Relaxed)),
        ("http_connections", process.http_connections.turned_away()),
        ("live_streams_per_person", people.sign_ins.streams.turned_away()),
    ];
    counts.into_iter().filter(|(_, count)| *count > 0).map(|(name, count)| (name.to_owned(), count)).collect()
}

/// As it was a moment ago: nobody waits for a database that does not answer.
fn health(broker: &Broker) -> Health {
    let trouble = broker.common.database.trouble().unwrap_or_default();
    Health { healthy: trouble.is_empty(), trouble }
}

fn view(listener: &Listener) -> ListenerView {
    ListenerView {
        name: listener.name.to_string(),
        url: if listener.name.as_ref() == "http" { format!("{}/mqtt", listener.url()) } else { listener.url() },
        connections: listener.count() as u64,
        anonymous: listener.anonymous,
        certificate_ends_at: listener.tls.as_ref().and_then(|tls| tls.ends()),
        limits: limits(&listener.limits),
    }
}

fn limits(limits: &moorfall_core::Limits) -> Limits {
    Limits {
        connections: limits.connections as u64,
        connects_per_second: limits.connects_per_second.into(),
        failed_sign_ins_per_minute: limits.failed_sign_ins_per_minute.into(),
        waiting_sign_ins_per_address: limits.waiting_sign_ins_per_address as u64,
        connecting_per_address: limits.connecting_per_address as u64,
        connecting_bytes: limits.connecting_bytes as u64,
        first_packet_bytes: limits.first_packet_bytes as u64,
        connect_seconds: limits.connect_time.as_secs(),
        packet_bytes: limits.packet_bytes as u64,
        session_expiry_seconds: limits.session_expiry_seconds.into(),
        sessions: limits.sessions as u64,
        sessions_per_identity: limits.sessions_per_identity as u64,
        keep_alive_seconds: limits.keep_alive_seconds.into(),
        queue_messages: limits.queue_messages as u64,
        queue_bytes: limits.queue_bytes as u64,
        queue_bytes_per_identity: limits.queue_bytes_per_identity as u64,
        queue_policy: limits.queue_policy.into(),
        in_flight: limits.in_flight.into(),
        receive_maximum: limits.receive_maximum.into(),
        topic_aliases: limits.topic_aliases.into(),
        subscriptions: limits.subscriptions as u64,
        subscription_bytes_per_identity: limits.subscription_bytes_per_identity as u64,
        conditions_per_identity: limits.conditions_per_identity as u64,
        refusals_per_second: limits.refusals_per_second.into(),
        topic_levels: limits.topic_levels as u64,
        topic_bytes: limits.topic_bytes as u64,
        retained_messages: limits.retained_messages as u64,
        retained_bytes: limits.retained_bytes as u64,
        retained_bytes_per_identity: limits.retained_bytes_per_identity as u64,
        hierarchy_bytes: limits.hierarchy_bytes as u64,
        http_connections: limits.http_connections as u64,
        http_connections_per_address: limits.http_connections_per_address as u64,
        http_header_seconds: limits.http_header_seconds.into(),
        http_idle_seconds: limits.http_idle_seconds.into(),
        live_streams_per_person: limits.live_streams_per_person as u64,
        audit_days: limits.audit_days.into(),
    }
}
