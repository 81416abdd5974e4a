//! What a message may be, and the message that a will is.

use std::sync::Arc;

use moorfall_wire::{PublishProperties, Will, WillProperties};

use super::refusal::Reason;
use crate::{Limits, Message, SessionKey, Time};

/// The message that a will becomes.
pub(super) fn will_message(will: Will, publisher: SessionKey, now: Time) -> Arc<Message> {
    let Will { topic, payload, qos, retain, properties } = will;
    Arc::new(Message::new(topic, payload, qos, retain, will_properties(properties), publisher, now))
}

fn will_properties(will: WillProperties) -> PublishProperties {
    PublishProperties {
        payload_format_indicator: will.payload_format_indicator,
        message_expiry_interval: will.message_expiry_interval,
        response_topic: will.response_topic,
        correlation_data: will.correlation_data,
        user_properties: will.user_properties,
        content_type: will.content_type,
        ..PublishProperties::default()
    }
}

/// Whether a topic name or filter stays within the limits.
pub(super) fn check_size(topic: &str, limits: &Limits) -> Result<(), Reason> {
    let levels = topic.split('/').count();
    if levels > limits.topic_levels {
        return Err(Reason::TopicLevels { levels, most: limits.topic_levels });
    }
    if topic.len() > limits.topic_bytes {
        return Err(Reason::TopicBytes { bytes: topic.len(), most: limits.topic_bytes });
    }
    Ok(())
}

/// Whether a payload that is said to be text is text (§3.3.2.3.2). Only looked at when the publisher says so.
pub(super) fn check_payload(indicator: Option<bool>, payload: &[u8]) -> Result<(), Reason> {
    match std::str::from_utf8(payload) {
        Err(error) if indicator == Some(true) => Err(Reason::NotText { at: error.valid_up_to() }),
        _ => Ok(()),
    }
}
