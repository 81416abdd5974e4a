//! The properties of a message, as they are typed.

use std::time::Duration;

use bytes::Bytes;
use clap::Args;
use moorfall_wire::*;

use crate::{
    arguments::{parse_span, qos},
    messaging::Connection,
    output::{Done, Failure},
    payload::Form,
};

/// What a message is apart from its payload.
#[derive(Clone, Debug, Args)]
pub(crate) struct Envelope {
    /// Quality of service: 0 is not acknowledged, so a refusal is not seen
    #[arg(long, value_name = "0|1|2", default_value = "1", value_parser = qos)]
    pub(crate) qos: QoS,
    /// Keep the message for those who subscribe later; an empty one clears the topic
    #[arg(long)]
    pub(crate) retain: bool,
    /// How the payload is written
    #[arg(long, value_name = "FORM", default_value = "text")]
    pub(crate) form: Form,
    /// Deliver it no later than after this time (5.0)
    #[arg(long, value_name = "TIME", value_parser = parse_span)]
    pub(crate) expiry: Option<Duration>,
    /// A user property; may be given several times (5.0)
    #[arg(long = "property", value_name = "NAME=VALUE", value_parser = property)]
    pub(crate) properties: Vec<(String, String)>,
    /// What the payload is, such as application/json (5.0)
    #[arg(long, value_name = "TYPE")]
    pub(crate) content_type: Option<String>,
    /// Where an answer is wanted (5.0)
    #[arg(long, value_name = "TOPIC")]
    pub(crate) response_topic: Option<TopicName>,
    /// What the answer is to carry, to be known by (5.0)
    #[arg(long, value_name = "TEXT")]
    pub(crate) correlation: Option<String>,
}

fn property(text: &str) -> Result<(String, String), String> {
    let pair = text.split_once('=').ok_or("write NAME=VALUE")?;
    Ok((pair.0.to_owned(), pair.1.to_owned()))
}

impl Envelope {
    /// The message with this payload.
    pub(crate) fn message(&self, topic: &TopicName, payload: Bytes) -> Publish {
        let properties = PublishProperties {
            message_expiry_interval: self.expiry.map(|time| u32::try_from(time.as_secs()).unwrap_or(u32::MAX)),
            user_properties: self
                .properties
                .iter()
                .map(|(name, value)| UserProperty { name: name.as_str().into(), value: value.as_str().into() })
                .collect(),
            content_type: self.content_type.as_deref().map(Into::into),
            response_topic: self.response_topic.as_ref().map(|topic| (**topic).into()),
            correlation_data: self.correlation.clone().map(Bytes::from),
            ..PublishProperties::default()
        };
        Publish { retain: self.retain, properties, ..Publish::new(topic.clone(), payload, self.qos) }
    }

    /// Whether it has what only 5.0 carries.
    fn needs_v5(&self) -> bool {
        self.expiry.is_some()
            || !self.properties.is_empty()
            || self.content_type.is_some()
            || self.response_topic.is_some()
            || self.correlation.is_some()
    }

    /// Refuses what the version would silently leave out.
    pub(crate) fn check(&self, connection: &Connection) -> Done {
        if self.needs_v5() && !connection.is_v5() {
            let words = "expiry, properties, content type, response topic and correlation are MQTT 5.0; leave them out \
                         or take --protocol 5.0";
            return Err(Failure(words.into()));
        }
        Ok(())
    }
}
