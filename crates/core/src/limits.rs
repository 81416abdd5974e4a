//! Bounds on everything that a stranger, a client or a busy hour can make grow.

use std::{fmt, time::Duration};

use serde::{Deserialize, Deserializer, Serialize};

use crate::shown::count;

/// The bounds of one service, or of one of its listeners. Each says its unit and what it costs. Its name in a
/// configuration file is the field's with hyphens.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(default, rename_all = "kebab-case", deny_unknown_fields)]
pub struct Limits {
    /// Connections at a time, those that have not said CONNECT included. Each takes one file descriptor.
    pub connections: usize,
    /// Connections that one address may begin in a second, on the average of ten seconds; an IPv6 address counts with
    /// its whole /64. 0 switches the check off.
    pub connects_per_second: u32,
    /// Sign-ins of one address, and with one name, that may fail in a minute; beyond it the next ones wait until earlier
    /// failures have faded. 0 switches the check off.
    pub failed_sign_ins_per_minute: u32,
    /// Sign-ins of one address that may wait for their turn, about 2 KiB each; the next one is told so.
    pub waiting_sign_ins_per_address: usize,
    /// Connections of one address that have not sent CONNECT; the next one is closed.
    pub connecting_per_address: usize,
    /// What all connections that are not accepted hold together, bytes, beyond the first 2 KiB of each. Of the whole
    /// service.
    pub connecting_bytes: usize,
    /// The largest first packet, bytes: what one connection may hold before it is accepted.
    pub first_packet_bytes: usize,
    /// How long a connection may take to be accepted, seconds in a file.
    #[serde(rename = "connect-seconds", deserialize_with = "seconds")]
    pub connect_time: Duration,
    /// The largest packet of an accepted client, bytes, header included.
    pub packet_bytes: usize,
    /// Seconds that a session may outlive its connection at most; 4294967295 is for ever.
    pub session_expiry_seconds: u32,
    /// Sessions, connected or not, about 1 KiB each and what waits for them. Of the whole service.
    pub sessions: usize,
    /// Sessions of one identity, connected or not. Its first one is always accepted.
    pub sessions_per_identity: usize,
    /// The longest silence that a 5.0 client may ask for, seconds; a longer one is shortened ([MQTT-3.2.2-21]). 0
    /// leaves it to the client.
    pub keep_alive_seconds: u16,
    /// Messages that wait for one session.
    pub queue_messages: usize,
    /// Bytes of payload, topic and properties that wait for one session. Messages are shared, so this bounds what one slow
    /// reader can keep alive, not what it allocates.
    pub queue_bytes: usize,
    /// The same of all sessions of one identity together.
    pub queue_bytes_per_identity: usize,
    /// Bytes of memory, about, for what waits for one session and is kept in the database, too: beyond it only the database
    /// has the message, and it is read again when it is due. Of a client that is away a 32nd of it.
    pub queue_memory_bytes: usize,
    /// Whether what comes while more waits than is in memory may go beside it. Of bridges alone.
    #[serde(skip)]
    pub live_traffic: LiveTraffic,
    /// What happens to a message for a session whose queue is full.
    pub queue_policy: QueuePolicy,
    /// QoS 1 and 2 messages sent to one client and not acknowledged; the client may ask for fewer.
    pub in_flight: u16,
    /// QoS 1 and 2 messages that one client may send without their being acknowledged.
    pub receive_maximum: u16,
    /// Topic aliases of one connection in either direction, each as long as its topic. 0 switches them off.
    pub topic_aliases: u16,
    /// Subscriptions of one session, about 200 bytes each.
    pub subscriptions: usize,
    /// Bytes of the filters of all sessions of one identity, 200 for each filter beside its own.
    pub subscription_bytes_per_identity: usize,
    /// Subscriptions of one identity that have a condition: each is judged for messages of its topics.
    pub conditions_per_identity: usize,
    /// What a session tries to publish or subscribe to and is refused, in a second; beyond it the client is read from
    /// more slowly, and in the end its connection is closed. 0 switches the check off.
    pub refusals_per_second: u32,
    /// Levels of a topic name or filter. The walk of the subscription index is as deep.
    pub topic_levels: usize,
    /// Bytes of a topic name or filter.
    pub topic_bytes: usize,
    /// Retained messages in all. Of the whole service.
    pub retained_messages: usize,
    /// Bytes of payload, topic and properties of all retained messages. Of the whole service.
    pub retained_bytes: usize,
    /// The same of those that one identity published.
    pub retained_bytes_per_identity: usize,
    /// Bytes of memory for the live topic hierarchy; topics beyond it are only counted. Of the whole service.
    pub hierarchy_bytes: usize,
    /// Connections to the console and the API at a time, each of one file descriptor. Of the whole service.
    pub http_connections: usize,
    /// The same of one address.
    pub http_connections_per_address: usize,
    /// How long a request may take to arrive, up to the end of its headers, seconds.
    pub http_header_seconds: u32,
    /// How long a connection to the console and the API may be idle between two requests, seconds.
    pub http_idle_seconds: u32,
    /// Live streams of the API that one person may have open.
    pub live_streams_per_person: usize,
    /// How long the record of changes is kept, days. Of the whole service.
    pub audit_days: u32,
}

/// What happens at the bound of a session's queue. Each message that is lost is counted and shown.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum QueuePolicy {
    /// The message that does not fit is dropped.
    #[default]
    DropNewest,
    /// What has waited longest is dropped, until the new message fits.
    DropOldest,
    /// The session ends, and what waited for it is dropped.
    EndSession,
}

/// How messages that come now are sent while others wait in the database for the same session.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum LiveTraffic {
    /// Behind all that waits.
    #[default]
    Behind,
    /// At once, unless something waits of the same topic.
    Beside,
}

impl fmt::Display for LiveTraffic {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Behind => "behind",
            Self::Beside => "beside",
        })
    }
}

impl fmt::Display for QueuePolicy {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::DropNewest => "drop-newest",
            Self::DropOldest => "drop-oldest",
            Self::EndSession => "end-session",
        })
    }
}

impl Default for Limits {
    fn default() -> Self {
        Self {
            connections: 10_000,
            connects_per_second: 500,
            failed_sign_ins_per_minute: 10,
            waiting_sign_ins_per_address: 1_000,
            connecting_per_address: 1_000,
            connecting_bytes: 64 * 1024 * 1024,
            first_packet_bytes: 256 * 1024,
            connect_time: Duration::from_secs(10),
            packet_bytes: 1024 * 1024,
            session_expiry_seconds: 30 * 24 * 3_600,
            sessions: 200_000,
            sessions_per_identity: 10_000,
            keep_alive_seconds: 0,
            queue_messages: 10_000,
            queue_bytes: 16 * 1024 * 1024,
            queue_bytes_per_identity: 256 * 1024 * 1024,
            queue_memory_bytes: 32 * 1024 * 1024,
            live_traffic: LiveTraffic::default(),
            queue_policy: QueuePolicy::default(),
            in_flight: 256,
            receive_maximum: 1_024,
            topic_aliases: 32,
            subscriptions: 1_000,
            subscription_bytes_per_identity: 64 * 1024 * 1024,
            conditions_per_identity: 100,
            refusals_per_second: 50,
            topic_levels: 128,
            topic_bytes: 4_096,
            retained_messages: 1_000_000,
            retained_bytes: 512 * 1024 * 1024,
            retained_bytes_per_identity: 128 * 1024 * 1024,
            hierarchy_bytes: 256 * 1024 * 1024,
            http_connections: 1_000,
            http_connections_per_address: 200,
            http_header_seconds: 10,
            http_idle_seconds: 75,
            live_streams_per_person: 20,
            audit_days: 400,
        }
    }
}

/// A limit that is out of its range.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{name} is {}; it must be from {} to {}", count(*.given as u64), count(*.least as u64), count(*.most as u64))]
pub struct LimitError {
    /// The name in a file.
    pub name: &'static str,
    /// The value.
    pub given: usize,
    /// The least.
    pub least: usize,
    /// The most.
    pub most: usize,
}

impl Limits {
    /// Whether each limit is within its range.
    pub fn check(&self) -> Result<(), LimitError> {
        const MANY: usize = 100_000_000;
        // The walk of the index goes down one call for each level.
        const LEVELS: usize = 1_000;
        let connect_seconds = usize::try_from(self.connect_time.as_secs()).unwrap_or(usize::MAX);
        for (name, given, least, most) in [
            ("connections", self.connections, 1, MANY),
            ("waiting-sign-ins-per-address", self.waiting_sign_ins_per_address, 1, MANY),
            ("connecting-per-address", self.connecting_per_address, 1, MANY),
            ("connecting-bytes", self.connecting_bytes, 1024 * 1024, usize::MAX),
            ("first-packet-bytes", self.first_packet_bytes, 256, 1024 * 1024),
            ("connect-seconds", connect_seconds, 1, 3_600),
            ("packet-bytes", self.packet_bytes, 256, moorfall_wire::MAX_PACKET_SIZE),
            ("sessions", self.sessions, 1, MANY),
            ("sessions-per-identity", self.sessions_per_identity, 1, MANY),
            ("queue-messages", self.queue_messages, 1, MANY),
            ("queue-bytes", self.queue_bytes, 1, usize::MAX),
            ("queue-bytes-per-identity", self.queue_bytes_per_identity, 1, usize::MAX),
            ("queue-memory-bytes", self.queue_memory_bytes, 64 * 1024, usize::MAX),
            ("in-flight", self.in_flight.into(), 1, 65_535),
            ("receive-maximum", self.receive_maximum.into(), 1, 65_535),
            ("subscriptions", self.subscriptions, 1, MANY),
            ("subscription-bytes-per-identity", self.subscription_bytes_per_identity, 1_024, usize::MAX),
            ("conditions-per-identity", self.conditions_per_identity, 0, MANY),
            ("topic-levels", self.topic_levels, 1, LEVELS),
            ("topic-bytes", self.topic_bytes, 1, 65_535),
            ("retained-messages", self.retained_messages, 0, MANY),
            ("retained-bytes", self.retained_bytes, 0, usize::MAX),
            ("retained-bytes-per-identity", self.retained_bytes_per_identity, 0, usize::MAX),
            ("hierarchy-bytes", self.hierarchy_bytes, 0, usize::MAX),
            ("http-connections", self.http_connections, 8, MANY),
            ("http-connections-per-address", self.http_connections_per_address, 4, MANY),
            ("http-header-seconds", self.http_header_seconds as usize, 1, 3_600),
            ("http-idle-seconds", self.http_idle_seconds as usize, 1, 86_400),
            ("live-streams-per-person", self.live_streams_per_person, 1, MANY),
            ("audit-days", self.audit_days as usize, 1, 36_500),
        ] {
            if given < least || given > most {
                return Err(LimitError { name, given, least, most });
            }
        }
        Ok(())
    }
}

fn seconds<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Duration, D::Error> {
    u64::deserialize(deserializer).map(Duration::from_secs)
}
