//! Messages from the client, and its acknowledgements of messages to it.

use std::sync::Arc;

use moorfall_wire::{
    Acknowledgement, AcknowledgementProperties, Packet, PacketId, ProtocolVersion, Publish, PublishProperties, QoS,
    ReasonCode, TopicName, WillProperties,
};

use super::{Action, Phase, Routed, Session};
use crate::{Limits, Message, Time, access::Request};

/// Topics for which a session remembers that it may publish.
const REMEMBERED_TOPICS: usize = 128;

/// The will's properties as those of the message that it becomes.
pub(super) fn will_properties(will: WillProperties) -> PublishProperties {
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

/// Whether a topic name or filter stays within the bounds; the sentence says which it breaks.
pub(super) fn check_size(topic: &str, limits: &Limits) -> Result<(), String> {
    let levels = topic.split('/').count();
    if levels > limits.topic_levels {
        return Err(format!("the topic has {levels} levels; at most {} are taken", limits.topic_levels));
    }
    if topic.len() > limits.topic_length {
        return Err(format!("the topic has {} bytes; at most {} are taken", topic.len(), limits.topic_length));
    }
    Ok(())
}

impl Session {
    pub(super) fn handle_publish(&mut self, now: Time, publish: Publish) {
        if publish.qos == QoS::ExactlyOnce {
            // [MQTT-3.2.2-11]: CONNACK said that QoS 1 is the most.
            return self.fail(now, ReasonCode::QoSNotSupported, "QoS 2 is not offered; use QoS 1".into());
        }
        if publish.properties.topic_alias.is_some() {
            // [MQTT-3.2.2-17]: CONNACK allowed no alias.
            return self.fail(now, ReasonCode::TopicAliasInvalid, "topic aliases are not offered".into());
        }
        if !publish.properties.subscription_identifiers.is_empty() {
            // [MQTT-3.3.4-6].
            let words = "a client must not send subscription identifiers with a message".into();
            return self.fail(now, ReasonCode::ProtocolError, words);
        }
        if let Err((reason, words)) = self.may_publish(&publish.topic) {
            return self.refuse_publish(publish.packet_id, reason, words);
        }
        let Publish { qos, retain, topic, packet_id, properties, payload, .. } = publish;
        let message = Message::new(topic, payload, qos, retain, properties, self.key, now);
        self.actions.push_back(Action::Route { message: Arc::new(message), packet_id });
    }

    fn may_publish(&mut self, topic: &TopicName) -> Result<(), (ReasonCode, String)> {
        let Phase::Open(open) = &mut self.phase else { unreachable!("packets are handled only while open") };
        if open.allowed.contains(&**topic) {
            return Ok(());
        }
        check_size(topic, &self.limits).map_err(|words| (ReasonCode::TopicNameInvalid, words))?;
        let request = Request::Publish(topic);
        if !open.access.decide(request, |_, _| {}).is_allowed() {
            return Err((ReasonCode::NotAuthorized, open.access.explain(request)));
        }
        if open.allowed.len() >= REMEMBERED_TOPICS {
            open.allowed.clear();
        }
        open.allowed.insert(topic.to_string().into());
        Ok(())
    }

    /// 5.0 says it in PUBACK. 3.1.1 can't: the message is acknowledged, dropped and recorded. At QoS 0 neither can.
    fn refuse_publish(&mut self, packet_id: Option<PacketId>, reason: ReasonCode, words: String) {
        if let Some(id) = packet_id {
            self.acknowledge(id, reason, &words);
        }
        self.actions.push_back(Action::Refused(words));
    }

    /// The answer to [`Action::Route`] with a packet identifier: the publisher is told (§3.4).
    pub fn handle_routed(&mut self, packet_id: PacketId, routed: Routed) {
        match routed {
            _ if !self.is_open() => {}
            Routed::To(0) => self.acknowledge(packet_id, ReasonCode::NoMatchingSubscribers, ""),
            Routed::To(_) => self.acknowledge(packet_id, ReasonCode::Success, ""),
            Routed::RetainedFull => {
                let words = "the broker keeps as many retained messages as it may; the message was not taken";
                self.refuse_publish(Some(packet_id), ReasonCode::QuotaExceeded, words.into());
            }
        }
    }

    fn acknowledge(&mut self, packet_id: PacketId, reason: ReasonCode, words: &str) {
        let mut ack = Acknowledgement::success(packet_id);
        if self.version == ProtocolVersion::V5 {
            ack.reason = reason;
            if reason.is_error() {
                let reason_string = self.problem_string(words);
                ack.properties = AcknowledgementProperties { reason_string, ..AcknowledgementProperties::default() };
            }
        }
        self.send(&Packet::PubAck(ack));
    }

    pub(super) fn handle_puback(&mut self, ack: &Acknowledgement) {
        let Phase::Open(open) = &mut self.phase else { unreachable!("packets are handled only while open") };
        // An identifier that is not in use is answered by nothing: the standard has no answer to PUBACK.
        open.in_flight.remove(ack.packet_id);
    }
}
