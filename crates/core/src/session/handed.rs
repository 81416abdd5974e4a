//! Messages that a session hands to whoever carries them on, instead of writing them for a client.

use std::{collections::VecDeque, sync::Arc};

use moorfall_wire::{PacketId, Publish, PublishProperties, QoS};

use crate::Message;

/// A message as a client would have got it.
#[derive(Clone, Debug)]
pub struct Handed {
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

impl Handed {
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
        self.bytes += handed.message.weight();
        self.waiting.push_back(handed);
    }
}
