//! What clients are to do, as it is asked for.

use axum::http::StatusCode;
use base64::{Engine, engine::general_purpose::STANDARD};
use bytes::Bytes;
use moorfall_contract::retained::NameAndValue;
use moorfall_wire::{Publish, UserProperty};
use serde::Deserialize;
use utoipa::ToSchema;

use crate::http::{
    fields::{FieldError, Filter, Qos, Topic},
    problem::Fault,
};

/// A client to be opened.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DeskOrder {
    /// Whose rights it has.
    pub(crate) identity: String,
    /// Its client identifier; the broker gives it one if this is empty.
    #[serde(default)]
    pub(crate) client_id: String,
    /// `3.1.1` or `5.0`.
    #[serde(default = "newest")]
    pub(crate) version: String,
    /// Whether an earlier session of the client identifier is discarded.
    #[serde(default = "yes")]
    pub(crate) clean_start: bool,
    /// Seconds that the session outlives the connection; 4,294,967,295 is for ever.
    #[serde(default)]
    pub(crate) session_expiry: u32,
    /// The longest silence, seconds.
    #[serde(default = "half_a_minute")]
    pub(crate) keep_alive: u16,
    /// What the broker publishes if the client goes away without a goodbye.
    #[serde(default)]
    pub(crate) will: Option<DeskMessage>,
}

pub(crate) fn newest() -> String {
    "5.0".into()
}

pub(crate) fn yes() -> bool {
    true
}

pub(crate) fn half_a_minute() -> u16 {
    30
}

/// A message to be published.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DeskMessage {
    /// The topic.
    pub(crate) topic: Topic,
    /// The payload in Base64.
    pub(crate) payload: String,
    /// The quality of service.
    #[serde(default)]
    pub(crate) qos: Qos,
    /// Whether it is to be retained.
    #[serde(default)]
    pub(crate) retain: bool,
    /// Seconds until it expires.
    #[serde(default)]
    pub(crate) expiry: Option<u32>,
    /// What the payload is.
    #[serde(default)]
    pub(crate) content_type: String,
    /// Where an answer is awaited.
    #[serde(default)]
    pub(crate) response_topic: String,
    /// By which an answer is known, as text.
    #[serde(default)]
    pub(crate) correlation: String,
    /// The publisher's own properties.
    #[serde(default)]
    pub(crate) user: Vec<NameAndValue>,
}

/// What a client wants to read.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DeskSubscription {
    /// The topic filter.
    pub(crate) filter: Filter,
    /// The quality of service.
    #[serde(default)]
    pub(crate) qos: Qos,
    /// Leave out its own messages (5.0).
    #[serde(default)]
    pub(crate) no_local: bool,
    /// Pass on the retain flag as published (5.0).
    #[serde(default)]
    pub(crate) retain_as_published: bool,
    /// Retained messages: 0 send them, 1 only if the subscription is new, 2 never (5.0).
    #[serde(default)]
    pub(crate) retain_handling: u8,
}

/// What a client does not want to read any more.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DeskFilter {
    /// The topic filter.
    pub(crate) filter: Filter,
}

pub(super) fn wrong(detail: String) -> Fault {
    Fault::new(StatusCode::UNPROCESSABLE_ENTITY, "Invalid input", detail)
}

impl DeskMessage {
    pub(crate) fn read(self) -> Result<Publish, Fault> {
        let Self { topic, payload, qos, retain, expiry, content_type, response_topic, correlation, user } = self;
        let payload =
            STANDARD.decode(&payload).map_err(|error| wrong(format!("The payload is not Base64: {error}.")))?;
        let mut publish = Publish::new(topic.0, payload, qos.0);
        publish.retain = retain;
        let properties = &mut publish.properties;
        properties.message_expiry_interval = expiry;
        properties.content_type = (!content_type.is_empty()).then(|| content_type.into());
        if !response_topic.is_empty() {
            let Topic(topic) = response_topic.try_into().map_err(|error: FieldError| wrong(error.to_string()))?;
            properties.response_topic = Some(topic.to_string().into());
        }
        properties.correlation_data = (!correlation.is_empty()).then(|| Bytes::from(correlation));
        properties.user_properties =
            user.into_iter().map(|one| UserProperty { name: one.name.into(), value: one.value.into() }).collect();
        Ok(publish)
    }
}
