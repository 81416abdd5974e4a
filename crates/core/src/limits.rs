//! Bounds on everything that a stranger, a client or a busy hour can make grow.

use std::time::Duration;

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
    /// Messages that wait for one session.
    pub queue_messages: usize,
    /// Bytes of payload, topic and properties that wait for one session. Messages are shared, so this bounds what one slow
    /// reader can keep alive, not what it allocates.
    pub queue_bytes: usize,
    /// QoS 1 messages sent to one client and not acknowledged; the client may ask for fewer.
    pub in_flight: u16,
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

impl Default for Limits {
    fn default() -> Self {
        Self {
            connections: 10_000,
            connect_packet_size: 16 * 1024,
            connect_time: Duration::from_secs(10),
            packet_size: 1024 * 1024,
            queue_messages: 10_000,
            queue_bytes: 16 * 1024 * 1024,
            in_flight: 256,
            subscriptions: 1_000,
            topic_levels: 32,
            topic_length: 1_024,
            retained_messages: 1_000_000,
            retained_bytes: 512 * 1024 * 1024,
        }
    }
}
