//! The state of the service.

use std::{collections::BTreeMap, path::PathBuf};

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::{
    kinds::{AlertSeverity, QueuePolicy},
    readings::{Rates, Totals},
};

/// The state of the service.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Status {
    /// Version of the program.
    pub version: String,
    /// When it was started.
    #[serde(with = "time::serde::rfc3339")]
    pub started_at: OffsetDateTime,
    /// Seconds since then.
    pub uptime_seconds: u64,
    /// Where MQTT clients connect.
    pub listeners: Vec<ListenerView>,
    /// Where the console and this interface are.
    pub http: String,
    /// The data folder.
    #[schema(value_type = String)]
    pub data: PathBuf,
    /// The blueprint's name; empty without a blueprint.
    pub blueprint: String,
    /// The revision of the design in force; 0 if there never was one.
    pub revision: i64,
    /// Whether clients without identity may do everything.
    pub open: bool,
    /// Whether a stand-in takes letters and calls, whose inbox can be read: only in the demo.
    pub has_inbox: bool,
    /// Alerts that are raised.
    pub raised_alerts: u64,
    /// The worst of them.
    pub worst_alerts: Vec<RaisedAlert>,
    /// Differences between traffic and plan that were seen since the start.
    pub drifts: u64,
    /// What a person should know, in sentences.
    pub warnings: Vec<String>,
    /// Whether the database answers, and why not.
    pub database: Health,
    /// Connected sessions.
    pub sessions: u64,
    /// Sessions that are kept while their clients are away.
    pub sessions_away: u64,
    /// Rows that wait to be written to the database, or are being written.
    pub unwritten: u64,
    /// Subscriptions of all sessions.
    pub subscriptions: u64,
    /// Retained messages.
    pub retained: u64,
    /// Bytes of their payloads, topics and properties.
    pub retained_bytes: u64,
    /// Identities that are known.
    pub identities: u64,
    /// Rates, a moving average over ten seconds.
    pub rates: Rates,
    /// What has been counted since the start.
    #[serde(flatten)]
    pub totals: Totals,
    /// The bounds that are in force.
    pub limits: Limits,
    /// What bounds have turned away since the start, by the limit's name; those that have turned nothing away are left
    /// out.
    pub turned_away: BTreeMap<String, u64>,
}

/// An alert that is raised, in short.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RaisedAlert {
    /// Its name.
    pub name: String,
    /// How much it matters.
    pub severity: AlertSeverity,
    /// How many of its subjects are raised.
    pub subjects: u64,
    /// The first of them.
    pub subject: String,
    /// Its value, in words.
    pub value: String,
    /// Since when it is out.
    #[serde(with = "time::serde::rfc3339::option")]
    pub out_since: Option<OffsetDateTime>,
    /// Whether nobody is told of it.
    pub quiet: bool,
}

/// A place where MQTT clients connect.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ListenerView {
    /// Its name.
    pub name: String,
    /// Its address with the scheme: mqtt, mqtts, ws or wss.
    pub url: String,
    /// Connections at present.
    pub connections: u64,
    /// Whether clients without identity are accepted, under the rules.
    pub anonymous: bool,
    /// When its certificate ends, if it has one.
    #[serde(with = "time::serde::rfc3339::option")]
    pub certificate_ends_at: Option<OffsetDateTime>,
    /// The bounds that are in force there.
    pub limits: Limits,
}

/// Whether something works.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Health {
    /// Whether it does.
    pub healthy: bool,
    /// Why not; empty if it does.
    pub trouble: String,
}

/// Bounds that are in force, by their names in `moorfall.toml` with underscores.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Limits {
    /// Connections at a time.
    pub connections: u64,
    /// Connections that one address may begin in a second; 0 is any number.
    pub connects_per_second: u64,
    /// Sign-ins of one address, and with one name, that may fail in a minute before the next ones wait; 0 is any number.
    pub failed_sign_ins_per_minute: u64,
    /// Sign-ins of one address that may wait for their turn.
    pub waiting_sign_ins_per_address: u64,
    /// Connections of one address that have not sent CONNECT.
    pub connecting_per_address: u64,
    /// What all connections that are not accepted hold together, bytes.
    pub connecting_bytes: u64,
    /// The largest packet before a client is accepted, bytes.
    pub first_packet_bytes: u64,
    /// How long a client may take to be accepted, seconds.
    pub connect_seconds: u64,
    /// The largest packet, bytes.
    pub packet_bytes: u64,
    /// How long a session may outlive its connection, seconds; 4294967295 is for ever.
    pub session_expiry_seconds: u64,
    /// Sessions, connected or away.
    pub sessions: u64,
    /// Sessions of one identity, connected or away.
    pub sessions_per_identity: u64,
    /// The longest silence that a 5.0 client may ask for, seconds; 0 leaves it to the client.
    pub keep_alive_seconds: u64,
    /// Messages that may wait for one session.
    pub queue_messages: u64,
    /// Bytes that may wait for one session.
    pub queue_bytes: u64,
    /// Bytes that may wait for all sessions of one identity.
    pub queue_bytes_per_identity: u64,
    /// What happens to a message at the bound of a queue.
    pub queue_policy: QueuePolicy,
    /// QoS 1 and 2 messages sent to one client and not acknowledged.
    pub in_flight: u64,
    /// QoS 1 and 2 messages that one client may send without their being acknowledged.
    pub receive_maximum: u64,
    /// Topic aliases of one connection, in either direction.
    pub topic_aliases: u64,
    /// Subscriptions of one session.
    pub subscriptions: u64,
    /// Bytes of the filters of all sessions of one identity.
    pub subscription_bytes_per_identity: u64,
    /// Subscriptions of one identity that have a condition.
    pub conditions_per_identity: u64,
    /// Attempts of one session that may be refused in a second before it is slowed down; 0 is any number.
    pub refusals_per_second: u64,
    /// Levels of a topic.
    pub topic_levels: u64,
    /// Bytes of a topic.
    pub topic_bytes: u64,
    /// Retained messages.
    pub retained_messages: u64,
    /// Bytes of retained messages.
    pub retained_bytes: u64,
    /// Bytes of retained messages that one identity published.
    pub retained_bytes_per_identity: u64,
    /// Bytes of memory for the live topic hierarchy.
    pub hierarchy_bytes: u64,
    /// Connections to the console and the API at a time.
    pub http_connections: u64,
    /// Connections of one address to the console and the API.
    pub http_connections_per_address: u64,
    /// How long the headers of a request may take to arrive, seconds.
    pub http_header_seconds: u64,
    /// How long a connection to the console and the API may be idle, seconds.
    pub http_idle_seconds: u64,
    /// Live streams that one person may have open.
    pub live_streams_per_person: u64,
    /// How long the record of changes is kept, days.
    pub audit_days: u64,
}
