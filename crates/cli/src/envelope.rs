//! The properties of a message, as they are typed.

use std::time::Duration;

use bytes::Bytes;
use clap::Args;
use moorfall_wire::*;

use crate::{
    arguments::{Misread, duration, qos, whole_seconds},
    messaging::Connection,
    output::{Done, Failure},
    payload::Encoding,
};

/// A message apart from its payload.
#[derive(Clone, Debug, Args)]
pub(crate) struct Envelope {
    /// Quality of service; at 0 there is no acknowledgement, so a refusal is not seen
    #[arg(long, value_name = "0|1|2", default_value = "1", value_parser = qos)]
    pub(crate) qos: QoS,
    /// Set the retain flag: later subscribers receive the message; an empty one clears the topic
    #[arg(long)]
    pub(crate) retain: bool,
    /// Encoding of the payload as given here
    #[arg(long, value_name = "ENCODING", default_value = "text")]
    pub(crate) encoding: Encoding,
    /// Message Expiry Interval: do not deliver after this time (MQTT 5.0)
    #[arg(long, value_name = "TIME", value_parser = duration)]
    pub(crate) expiry: Option<Duration>,
    /// User Property; can be repeated (MQTT 5.0)
    #[arg(long = "property", value_name = "NAME=VALUE", value_parser = property)]
    pub(crate) properties: Vec<(String, String)>,
    /// Content Type of the payload, for example application/json (MQTT 5.0)
    #[arg(long, value_name = "TYPE")]
    pub(crate) content_type: Option<String>,
    /// Response Topic (MQTT 5.0)
    #[arg(long, value_name = "TOPIC")]
    pub(crate) response_topic: Option<TopicName>,
    /// Correlation Data, which the response repeats (MQTT 5.0)
    #[arg(long, value_name = "TEXT")]
    pub(crate) correlation: Option<String>,
}

fn property(text: &str) -> Result<(String, String), Misread> {
    let pair = text.split_once('=').ok_or("write NAME=VALUE")?;
    Ok((pair.0.to_owned(), pair.1.to_owned()))
}

impl Envelope {
    /// The message with this payload.
    pub(crate) fn message(&self, topic: &TopicName, payload: Bytes) -> Publish {
        let properties = PublishProperties {
            message_expiry_interval: self.expiry.map(whole_seconds),
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
            let words = "Expiry, properties, content type, response topic and correlation need MQTT 5.0. Leave them \
                         out, or use --protocol 5.0.";
            return Err(Failure(words.into()));
        }
        Ok(())
    }
}
