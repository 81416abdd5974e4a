//! Values of the protocol as fields of calls. They read themselves, so what is wrong with one is told alike by all calls.

use moorfall_wire::{FilterError, QoS, TopicError, TopicFilter, TopicName};
use serde::Deserialize;
use time::{OffsetDateTime, format_description::well_known::Rfc3339};
use utoipa::ToSchema;

/// Why a field is not what it should be.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum FieldError {
    /// It is no topic filter.
    #[error("\"{0}\" is not a valid topic filter: {1}.")]
    Filter(String, FilterError),
    /// It is no topic name.
    #[error("\"{0}\" is not a valid topic name: {1}.")]
    Topic(String, TopicError),
    /// It is no time.
    #[error("\"{0}\" is not a time. Write it like 2026-11-28T09:30:00Z.")]
    Moment(String),
    /// It is no quality of service.
    #[error("There is no QoS {0}. Use 0, 1 or 2.")]
    Qos(u8),
}

/// A topic filter.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize, ToSchema)]
#[serde(try_from = "String")]
#[schema(value_type = String, example = "harrowmere/+/+/stage/level")]
pub struct Filter(pub TopicFilter);

impl TryFrom<String> for Filter {
    type Error = FieldError;

    fn try_from(text: String) -> Result<Self, FieldError> {
        TopicFilter::new(text.clone()).map(Self).map_err(|error| FieldError::Filter(text, error))
    }
}

/// A topic name.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize, ToSchema)]
#[serde(try_from = "String")]
#[schema(value_type = String, example = "harrowmere/gorge/kettle-weir/stage/level")]
pub struct Topic(pub TopicName);

impl TryFrom<String> for Topic {
    type Error = FieldError;

    fn try_from(text: String) -> Result<Self, FieldError> {
        TopicName::new(text.clone()).map(Self).map_err(|error| FieldError::Topic(text, error))
    }
}

/// A time, as RFC 3339 writes it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, ToSchema)]
#[serde(try_from = "String")]
#[schema(value_type = String, format = DateTime, example = "2026-11-28T09:30:00Z")]
pub struct Moment(pub OffsetDateTime);

impl TryFrom<String> for Moment {
    type Error = FieldError;

    fn try_from(text: String) -> Result<Self, FieldError> {
        OffsetDateTime::parse(&text, &Rfc3339).map(Self).map_err(|_| FieldError::Moment(text))
    }
}

/// A quality of service: 0, 1 or 2.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, ToSchema)]
#[serde(try_from = "u8")]
#[schema(value_type = u8, minimum = 0, maximum = 2)]
pub struct Qos(pub QoS);

impl Default for Qos {
    fn default() -> Self {
        Self(QoS::AtMostOnce)
    }
}

impl TryFrom<u8> for Qos {
    type Error = FieldError;

    fn try_from(level: u8) -> Result<Self, FieldError> {
        QoS::try_from(level).map(Self).map_err(FieldError::Qos)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fields_say_what_is_wrong_with_them() {
        let filter = serde_json::from_str::<Filter>("\"a/#/b\"").unwrap_err().to_string();
        assert!(filter.starts_with("\"a/#/b\" is not a valid topic filter: `#` at byte 2"), "{filter}");
        let topic = serde_json::from_str::<Topic>("\"a/+\"").unwrap_err().to_string();
        assert!(topic.starts_with("\"a/+\" is not a valid topic name: `+` at byte 2"), "{topic}");
        let qos = serde_json::from_str::<Qos>("3").unwrap_err().to_string();
        assert!(qos.starts_with("There is no QoS 3. Use 0, 1 or 2."), "{qos}");
        assert_eq!(serde_json::from_str::<Qos>("2").unwrap().0, QoS::ExactlyOnce);
        assert!(serde_json::from_str::<Qos>("300").is_err());
    }
}
