//! Retained messages.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

/// A retained message, without the whole of its payload.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RetainedView {
    /// Its topic.
    pub topic: String,
    /// The quality of service that it was published with.
    pub qos: u8,
    /// Bytes of its payload.
    pub bytes: u64,
    /// When it was accepted.
    #[serde(with = "time::serde::rfc3339")]
    pub received_at: OffsetDateTime,
    /// Seconds until it expires; null if it never does.
    pub expires_in: Option<u32>,
    /// Who published to its topic last since the service started; empty if nobody has.
    pub publisher: String,
    /// The planned path of its topic; empty if it is not planned.
    pub planned: String,
    /// The beginning of its payload; null if that is no text.
    pub preview: Option<String>,
    /// Whether the payload goes on after that.
    pub more: bool,
}

/// Retained messages that a filter matches.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RetainedList {
    /// How many there are.
    pub total: u64,
    /// Bytes of their payloads, topics and properties.
    pub bytes: u64,
    /// Whether anything is planned, so that an empty `planned` says something.
    pub has_plan: bool,
    /// The first of them, as asked for.
    pub retained: Vec<RetainedView>,
}

/// A user property.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NameAndValue {
    /// Its name.
    pub name: String,
    /// Its value.
    pub value: String,
}

/// A retained message with all that it carries.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RetainedMessage {
    /// What a list tells of it.
    pub about: RetainedView,
    /// Its payload; null if that is no text. What is of Sparkplug B by its topic is decoded.
    pub payload: Option<String>,
    /// Its payload in hexadecimal digits, at most 64 KiB of it.
    pub payload_hex: String,
    /// What the payload is, as its publisher says; empty if it does not.
    pub content_type: String,
    /// User properties.
    pub user: Vec<NameAndValue>,
}

/// What was cleared.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ClearedView {
    /// The topics that had a retained message and have none now.
    pub topics: Vec<String>,
    /// Bytes of their payloads, topics and properties.
    pub bytes: u64,
    /// What brings them back, for a while.
    pub restore_key: String,
}

/// What was brought back.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RestoredView {
    /// Topics that have their retained message again.
    pub restored: u64,
    /// Topics that have got another one meanwhile, which stays.
    pub kept: u64,
}
