//! Sessions.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::kinds::{EndReason, SignedInBy};

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
    /// The version of TLS that its connection is secured by; empty without TLS.
    pub tls: String,
    /// The subject of the certificate that its client has shown; empty without one.
    #[serde(default)]
    pub certificate: String,
    /// When that certificate ends.
    #[serde(with = "time::serde::rfc3339::option")]
    pub certificate_ends_at: Option<OffsetDateTime>,
    /// Its Keep Alive, seconds; 0 without one, and while it is away.
    pub keep_alive_seconds: u16,
    /// When its client was heard last; null while it is away.
    #[serde(with = "time::serde::rfc3339::option")]
    pub heard_at: Option<OffsetDateTime>,
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
    /// The same per second, over the last whole minute, or over what there is of it.
    pub rates: SessionRates,
    /// Its subscriptions.
    pub subscriptions: u64,
    /// Messages that wait to be sent to it.
    pub queue: u64,
    /// Their bytes.
    pub queue_bytes: u64,
    /// How many messages may wait.
    pub queue_limit: u64,
    /// QoS 1 and 2 messages that were sent to it and that it has not acknowledged.
    pub in_flight: u64,
    /// Messages that were dropped because its queue was full.
    pub dropped: u64,
    /// Messages that were not sent to it for another reason than a full queue.
    pub withheld: u64,
    /// The same by reason; reasons for which none was are left out.
    pub withheld_by: BTreeMap<String, u64>,
    /// Messages that it did not get because a condition is not true of them.
    pub left_out: u64,
    /// Messages of its client that nobody got, because another client owns their topics.
    pub not_owner: u64,
    /// What it tried and was refused.
    pub refused: u64,
    /// The same by reason; reasons for which nothing was are left out.
    pub refused_by: BTreeMap<String, u64>,
    /// The last refusal, in a sentence; empty if there was none.
    pub last_refusal: String,
    /// When that was.
    #[serde(with = "time::serde::rfc3339::option")]
    pub last_refusal_at: Option<OffsetDateTime>,
    /// How its last connection ended, in a sentence; empty if none has, as far as is known.
    pub last_end: String,
    /// When that was.
    #[serde(with = "time::serde::rfc3339::option")]
    pub last_end_at: Option<OffsetDateTime>,
}

/// Rates of a session, each per second.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SessionRates {
    /// Messages accepted from it.
    pub messages_in: f64,
    /// Messages sent to it.
    pub messages_out: f64,
    /// Bytes read from it.
    pub bytes_in: f64,
    /// Bytes written to it.
    pub bytes_out: f64,
}

/// A session, and what it subscribes to.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SessionDetails {
    /// The session.
    #[serde(flatten)]
    pub session: SessionView,
    /// Its subscriptions by filter: the first of them.
    pub filters: Vec<SubscribedTo>,
    /// Which messages of some topics it gets, as the design says.
    pub conditions: Vec<ConditionView>,
}

/// A condition of the design, as it is for one session.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ConditionView {
    /// Its name in the blueprint.
    pub name: String,
    /// Messages of these topics.
    pub topics: Vec<String>,
    /// What must be true of a message, as an expression.
    pub condition: String,
}

/// One subscription of a session.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SubscribedTo {
    /// Its filter, with the group of a shared one in front.
    pub filter: String,
    /// The QoS that was granted.
    pub qos: u8,
    /// Which messages its client asked for, as an expression; null if all.
    pub condition: Option<String>,
}

/// Which sessions are to end, and how.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SessionsEnd {
    /// Their client identifiers: at most 10,000.
    pub client_ids: Vec<String>,
    /// What DISCONNECT says (5.0). Default: an administrative action.
    #[serde(default)]
    pub reason: EndReason,
    /// Whether only connections end, and sessions that outlive them stay.
    #[serde(default)]
    pub keep: bool,
}

/// What became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SessionsEnded {
    /// Sessions that ended, or lost their connections.
    pub ended: u64,
    /// Client identifiers that have no session.
    pub missing: Vec<String>,
}

/// Who is to be banned: an identity or an address.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BanDraft {
    /// The name of an identity.
    #[serde(default)]
    #[schema(nullable = false)]
    pub identity: Option<String>,
    /// An address, or a network such as 192.0.2.0/24.
    #[serde(default)]
    #[schema(nullable = false)]
    pub address: Option<String>,
    /// For so many seconds, at most a year.
    #[schema(minimum = 1, maximum = 31_536_000)]
    pub seconds: u32,
    /// Why.
    #[serde(default)]
    pub note: String,
}

/// Somebody who is not let in for a time.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct BanView {
    /// By which the ban is named.
    pub id: String,
    /// The identity; empty for an address.
    pub identity: String,
    /// The address or network; empty for an identity.
    pub address: String,
    /// Until when.
    #[serde(with = "time::serde::rfc3339")]
    pub until: OffsetDateTime,
    /// Why.
    pub note: String,
    /// By whom.
    pub by: String,
}

/// Sessions, or those that were asked for.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SessionList {
    /// How many match, listed or not.
    pub total: u64,
    /// The first of them, in the order that was asked for.
    pub sessions: Vec<SessionView>,
}
