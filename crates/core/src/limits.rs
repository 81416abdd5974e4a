//! Bounds on everything that a stranger, a client or a busy hour can make grow.

use std::{fmt, time::Duration};

use serde::{Deserialize, Serialize};

/// The bounds of one service. Each says its unit and what it costs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Limits {
    /// Connections at a time, those that have not said CONNECT included. Each takes one file descriptor.
    pub connections: usize,
    /// The largest first packet, bytes: what a connection may hold before it is accepted.
    pub connect_packet_size: usize,
    /// How long a connection may take to be accepted.
    pub connect_time: Duration,
    /// The largest packet of an accepted client, bytes, header included.
    pub packet_size: usize,
    /// Seconds that a session may outlive its connection at most; `u32::MAX` is for ever.
    pub session_expiry: u32,
    /// Sessions, connected or not, about 1 KiB each and what waits for them.
    pub sessions: usize,
    /// The longest silence that a 5.0 client may ask for, seconds; a longer one is shortened ([MQTT-3.2.2-21]). `None`
    /// leaves it to the client.
    pub keep_alive: Option<u16>,
    /// Messages that wait for one session.
    pub queue_messages: usize,
    /// Bytes of payload, topic and properties that wait for one session. Messages are shared, so this bounds what one slow
    /// reader can keep alive, not what it allocates.
    pub queue_bytes: usize,
    /// What happens to a message for a session whose queue is full.
    pub queue_policy: QueuePolicy,
    /// QoS 1 and 2 messages sent to one client and not acknowledged; the client may ask for fewer.
    pub in_flight: u16,
    /// QoS 1 and 2 messages that one client may send without their being acknowledged; at least 1.
    pub receive_maximum: u16,
    /// Topic aliases of one connection in either direction, each as long as its topic. 0 switches them off.
    pub topic_aliases: u16,
    /// Subscriptions of one session, about 200 bytes each.
    pub subscriptions: usize,
    /// Levels of a topic name or filter. The walk of the subscription index is as deep.
    pub topic_levels: usize,
    /// Bytes of a topic name or filter.
    pub topic_length: usize,
    /// Retained messages in all.
    pub retained_messages: usize,
    /// Bytes of payload, topic and properties of all retained messages.
    pub retained_bytes: usize,
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
            connect_packet_size: 16 * 1024,
            connect_time: Duration::from_secs(10),
            packet_size: 1024 * 1024,
            session_expiry: u32::MAX,
            sessions: 200_000,
            keep_alive: None,
            queue_messages: 10_000,
            queue_bytes: 16 * 1024 * 1024,
            queue_policy: QueuePolicy::default(),
            in_flight: 256,
            receive_maximum: 1_024,
            topic_aliases: 32,
            subscriptions: 1_000,
            topic_levels: 32,
            topic_length: 1_024,
            retained_messages: 1_000_000,
            retained_bytes: 512 * 1024 * 1024,
        }
    }
}
