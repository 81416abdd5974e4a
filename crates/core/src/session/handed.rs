//! Messages that a session hands to whoever carries them on, instead of writing them for a client.

use std::{collections::VecDeque, sync::Arc};

use moorfall_wire::{PacketId, Publish, PublishProperties, QoS};

use crate::{Message, Part};

/// What a session hands over at once.
#[derive(Clone, Debug)]
pub enum Handed {
    /// One message.
    Message(HandedMessage),
    /// Messages at QoS 0 that follow each other, not retained; none ends with its life.
    Run(Part),
}

impl Handed {
    /// How many messages.
    pub fn len(&self) -> usize {
        match self {
            Self::Message(_) => 1,
            Self::Run(part) => part.len(),
        }
    }

    /// Whether there is none, which is never so.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Bytes of payload, topic and properties of all.
    pub fn weight(&self) -> usize {
        match self {
            Self::Message(handed) => handed.message.weight(),
            Self::Run(part) => part.weight(),
        }
    }

    /// The messages, one by one.
    pub fn into_messages(self) -> impl Iterator<Item = HandedMessage> {
        let (one, part) = match self {
            Self::Message(handed) => (Some(handed), None),
            Self::Run(part) => (None, Some(part)),
        };
        let of_run = part.into_iter().flatten().map(|delivery| HandedMessage::at_most_once(delivery.message));
        one.into_iter().chain(of_run)
    }
}

/// A message as a client would have got it.
#[derive(Clone, Debug)]
pub struct HandedMessage {
    /// What.
    pub message: Arc<Message>,
    /// The lower of the published and the granted QoS.
    pub qos: QoS,
    /// The retain flag.
    pub retain: bool,
    /// Whether it was handed on before ([MQTT-3.3.1-1]).
    pub duplicate: bool,
    /// Under which it is to be acknowledged, at QoS 1 and 2.
    pub packet_id: Option<PacketId>,
    /// What is left of its life, seconds ([MQTT-3.3.2-6]).
    pub life: Option<u32>,
}

impl HandedMessage {
    /// A message at QoS 0 that is not retained and does not end with its life.
    pub(crate) fn at_most_once(message: Arc<Message>) -> Self {
        Self { message, qos: QoS::AtMostOnce, retain: false, duplicate: false, packet_id: None, life: None }
    }

    /// The packet that a client would have got.
    pub fn packet(&self) -> Publish {
        let Self { message, qos, retain, duplicate, packet_id, life } = self;
        let properties =
            PublishProperties { message_expiry_interval: *life, ..PublishProperties::clone(&message.properties) };
        Publish {
            retain: *retain,
            duplicate: *duplicate,
            packet_id: *packet_id,
            properties,
            ..Publish::new(message.topic.clone(), message.payload.clone(), *qos)
        }
    }
}

/// What a session has handed over and nobody has fetched yet.
#[derive(Debug, Default)]
pub(super) struct Handing {
    pub(super) waiting: VecDeque<Handed>,
    pub(super) bytes: usize,
}

impl Handing {
    pub(super) fn push(&mut self, handed: Handed) {
        self.bytes += handed.weight();
        self.waiting.push_back(handed);
    }
}
