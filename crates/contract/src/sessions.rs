//! Sessions.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::kinds::SignedInBy;

/// One session, connected or away.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SessionView {
    /// Client identifier.
    pub client_id: String,
    /// Whose it is.
    pub identity: String,
    /// Whether its client is connected.
    pub connected: bool,
    /// Where its client is connected from; empty while it is away.
    pub address: String,
    /// The listener that it came by; empty while it is away.
    pub listener: String,
    /// What its client signed in by; null while it is away.
    pub signed_in_by: Option<SignedInBy>,
    /// The subject of the certificate that its client has shown; empty without one.
    #[serde(default)]
    pub certificate: String,
    /// Protocol version, 3.1.1 or 5.0; empty while it is away.
    pub version: String,
    /// When it connected; while it is away, when it left.
    #[serde(with = "time::serde::rfc3339")]
    pub since: OffsetDateTime,
    /// When the session began.
    #[serde(with = "time::serde::rfc3339")]
    pub began_at: OffsetDateTime,
    /// Whether the session outlives its connection.
    pub persistent: bool,
    /// While its client is away: when the session ends. Absent if it never does by itself.
    #[serde(with = "time::serde::rfc3339::option")]
    pub ends_at: Option<OffsetDateTime>,
    /// Messages accepted from it.
    pub messages_in: u64,
    /// Messages sent to it.
    pub messages_out: u64,
    /// Bytes read from it.
    pub bytes_in: u64,
    /// Bytes written to it.
    pub bytes_out: u64,
    /// Its subscriptions.
    pub subscriptions: u64,
    /// Messages that wait to be sent to it.
    pub queue: u64,
    /// QoS 1 and 2 messages that were sent to it and that it has not acknowledged.
    pub in_flight: u64,
    /// Messages that were dropped because its queue was full.
    pub dropped: u64,
    /// Messages that were not sent to it for another reason: too large, expired, denied.
    pub withheld: u64,
    /// What it tried and was refused.
    pub refused: u64,
    /// The last refusal, in a sentence; empty if there was none.
    pub last_refusal: String,
    /// When that was.
    #[serde(with = "time::serde::rfc3339::option")]
    pub last_refusal_at: Option<OffsetDateTime>,
}

/// Sessions, or those that were asked for.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SessionList {
    /// How many match, listed or not.
    pub total: u64,
    /// The first of them, by client identifier.
    pub sessions: Vec<SessionView>,
}
