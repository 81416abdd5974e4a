//! One application message inside the broker, shared by all who receive it.

use std::sync::{Arc, OnceLock};

use bytes::Bytes;
use moorfall_wire::{EncodedPublish, ProtocolVersion, PublishProperties, QoS, TopicName};

use crate::Time;

/// Names one session for as long as the service runs; never used twice.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct SessionKey(pub u64);

/// A published message. It is made once and lives behind one `Arc`, however many receive it.
#[derive(Debug)]
pub struct Message {
    /// Where it was published.
    pub topic: TopicName,
    /// What was published.
    pub payload: Bytes,
    /// The publisher's QoS.
    pub qos: QoS,
    /// The publisher's retain flag.
    pub retain: bool,
    /// Properties to be passed on; no topic alias, no subscription identifiers.
    pub properties: PublishProperties,
    /// Who published it.
    pub publisher: SessionKey,
    /// When it was accepted.
    pub received: Time,
    weight: usize,
    /// The encodings that receivers have needed so far: (version, with room for a packet identifier).
    encodings: [OnceLock<Option<EncodedPublish>>; 4],
}

impl Message {
    /// A message as it was accepted at `received`.
    pub fn new(
        topic: TopicName,
        payload: Bytes,
        qos: QoS,
        retain: bool,
        properties: PublishProperties,
        publisher: SessionKey,
        received: Time,
    ) -> Self {
        let weight = payload.len() + topic.len() + properties.size();
        Self { topic, payload, qos, retain, properties, publisher, received, weight, encodings: Default::default() }
    }

    /// Bytes of payload, topic and properties, by which queues are bounded.
    pub fn weight(&self) -> usize {
        self.weight
    }

    /// The same message in memory of its own, for keeping: the original shares a receive buffer with its neighbours.
    pub fn detached(&self) -> Self {
        Self::new(
            self.topic.detached(),
            Bytes::copy_from_slice(&self.payload),
            self.qos,
            self.retain,
            self.properties.detached(),
            self.publisher,
            self.received,
        )
    }

    /// What is left of the message's life at `now`, seconds: `None` if it has no end, `Some(0)` when it is over
    /// (§3.3.2.3.3).
    pub fn expiry_left(&self, now: Time) -> Option<u32> {
        let life = self.properties.message_expiry_interval?;
        let waited = u32::try_from((now - self.received).as_secs()).unwrap_or(u32::MAX);
        Some(life.saturating_sub(waited))
    }

    /// The message as PUBLISH of `version`, encoded at the first call; `None` if it is too long for the format.
    pub fn encoded(&self, version: ProtocolVersion, acknowledged: bool) -> Option<&EncodedPublish> {
        let place = usize::from(version == ProtocolVersion::V5) << 1 | usize::from(acknowledged);
        self.encodings[place].get_or_init(|| self.encode(version, acknowledged, &self.properties)).as_ref()
    }

    /// An encoding for one receiver, with other properties than the message's own.
    pub fn encode(
        &self,
        version: ProtocolVersion,
        acknowledged: bool,
        properties: &PublishProperties,
    ) -> Option<EncodedPublish> {
        let none = PublishProperties::default();
        let properties = if version == ProtocolVersion::V5 { properties } else { &none };
        EncodedPublish::new(&self.topic, properties, self.payload.clone(), version, acknowledged).ok()
    }
}

/// A message on its way to one session.
#[derive(Clone, Debug)]
pub struct Delivery {
    /// What.
    pub message: Arc<Message>,
    /// The lower of the published and the granted QoS.
    pub qos: QoS,
    /// The retain flag to send: set for a retained message at subscription, or as published when asked so.
    pub retain: bool,
}
