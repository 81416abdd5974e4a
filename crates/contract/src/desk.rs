//! Clients that people hold.

use serde::{Deserialize, Serialize};
use serde_json::Value;
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::retained::NameAndValue;

/// A client that was opened.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DeskClientView {
    /// By which it is named here.
    pub id: String,
    /// Its client identifier.
    pub client_id: String,
    /// Whether an earlier session goes on.
    pub session_present: bool,
    /// What the broker said of its limits, in a sentence each.
    pub limits: Vec<String>,
}

/// The broker's answer.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DeskAnswer {
    /// Whether it did what was asked.
    pub accepted: bool,
    /// Its reason code; null if there is none: at QoS 0, or in 3.1.1.
    pub reason: Option<u8>,
    /// In explanation.
    pub explanation: String,
    /// Milliseconds until it came; null if none comes.
    pub milliseconds: Option<f64>,
}

/// Something that happened to a client.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DeskEvent {
    /// Its number, from 1.
    pub number: u64,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// A message that came; null if the connection ended.
    pub message: Option<DeskArrival>,
    /// Why the connection ended; empty if it goes on.
    pub closed: String,
}

/// A message that came.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DeskArrival {
    /// Its topic.
    pub topic: String,
    /// The payload; null if it is no text.
    pub payload: Option<String>,
    /// What a payload of Sparkplug B says, as JSON; null of all others.
    pub decoded: Option<String>,
    /// The payload in Base64.
    pub payload_base64: String,
    /// The quality of service of the delivery.
    pub qos: u8,
    /// Its retain flag.
    pub retain: bool,
    /// Whether it may have been sent before.
    pub duplicate: bool,
    /// Its properties, in explanation.
    pub properties: Vec<NameAndValue>,
}

/// What happened to a client.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DeskEvents {
    /// The client, as it is named here.
    pub id: String,
    /// Whether it is on the desk still.
    pub open: bool,
    /// The oldest first.
    pub events: Vec<DeskEvent>,
    /// How much was dropped in all, because nobody asked for it in time.
    pub dropped: u64,
}

/// A setup of the desk.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DeskSetupView {
    /// Its name.
    pub name: String,
    /// Which clients stand on the desk, and what they do: as the console wrote it.
    pub clients: Value,
    /// Who kept it last.
    pub changed_by: String,
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub changed_at: OffsetDateTime,
}
