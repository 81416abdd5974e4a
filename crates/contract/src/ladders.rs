//! Ladders: the packets of a session, an identity or an address, both ways over time.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::{kinds::Direction, retained::NameAndValue};

/// Whose packets are wanted, and for how long: one of session, identity and address.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct LadderOrder {
    /// A client identifier.
    #[serde(default)]
    #[schema(nullable = false)]
    pub session: Option<String>,
    /// The name of an identity.
    #[serde(default)]
    #[schema(nullable = false)]
    pub identity: Option<String>,
    /// The address that clients connect from.
    #[serde(default)]
    #[schema(nullable = false)]
    pub address: Option<String>,
    /// For so many seconds, at most an hour.
    #[schema(minimum = 1, maximum = 3_600)]
    pub seconds: u32,
    /// Whether payloads are kept, too; only an owner can want that. Passwords never are.
    #[serde(default)]
    pub payloads: bool,
}

/// A ladder.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LadderView {
    /// From 1.
    pub number: u64,
    /// The client identifier; empty if it is about something else.
    pub session: String,
    /// The identity; empty if it is about something else.
    pub identity: String,
    /// The address; empty if it is about something else.
    pub address: String,
    /// Whether payloads are kept.
    pub payloads: bool,
    /// Who wants it.
    pub by: String,
    /// When it was begun.
    #[serde(with = "time::serde::rfc3339")]
    pub began_at: OffsetDateTime,
    /// When it ends, or has ended.
    #[serde(with = "time::serde::rfc3339")]
    pub ends_at: OffsetDateTime,
    /// Whether it goes on.
    pub running: bool,
    /// Packets that passed.
    pub packets: u64,
    /// Packets that were too many to keep.
    pub left_out: u64,
}

/// A packet of a ladder.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LadderPacket {
    /// From 1.
    pub number: u64,
    /// When it passed.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// Which way.
    pub direction: Direction,
    /// The connection, by a number of its own.
    pub connection: u64,
    /// From where its client is connected.
    pub client_address: String,
    /// The client identifier; empty if it was never accepted.
    pub client_id: String,
    /// The identity; empty if it was never accepted.
    pub identity: String,
    /// The type of the packet, as the standard writes it.
    pub packet: String,
    /// Its packet identifier; absent if it has none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub packet_id: Option<u16>,
    /// Of the handshake of QoS 2 which of its four steps, of that of QoS 1 which of two; absent for other packets.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub step: Option<u8>,
    /// Of how many.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub steps: Option<u8>,
    /// What it says, in short: topic, filters, reason.
    pub summary: String,
    /// Whether it says that something went wrong.
    pub failure: bool,
    /// Its fields.
    pub fields: Vec<NameAndValue>,
    /// Its size, bytes.
    pub size: u64,
    /// Its bytes in Base64, without what is not kept.
    pub bytes: String,
}

/// A ladder with some of its packets.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LadderDetails {
    /// The ladder.
    pub ladder: LadderView,
    /// Its packets, oldest first.
    pub packets: Vec<LadderPacket>,
}
