//! Messages from the client (§4.3).
use std::{fmt::Display, sync::Arc};

use bytes::BytesMut;
use moorfall_wire::{
    Acknowledgement, AcknowledgementProperties, Packet, PacketId, PlainPublish, PlainRun, ProtocolVersion, Publish,
    QoS, ReasonCode,
};

use super::{
    action::{Action, Keep, Routed},
    checks::check_payload,
    ended::Violation,
    machine::{After, Session},
    refusal::Reason,
};
use crate::{Message, Run, Time, access::Act, aliases::AliasError};

/// Messages of one run at most.
const RUN: usize = 1_024;

impl Session {
    /// Takes messages off the front of the receive buffer that are plain, have one topic, and are all accepted, as is known
    /// from those before: the same as packets, with less to carry about. They are to be routed, as by [`Action::Route`].
    pub fn take_run(&mut self, now: Time, buffer: &mut BytesMut) -> Option<Run> {
        let version = self.version;
        let limit = self.packet_limit();
        let open = self.phase.open_mut()?;
        let topic = std::str::from_utf8(PlainPublish::peek(buffer, version)?.topic).ok()?;
        let (topic, planned) = open.permissions.0.as_ref()?.plain(&open.access, topic)?;
        let plan = planned.zip(open.access.policy().map(|policy| policy.plan()));
        let is_as_planned = |payload: &[u8]| {
            plan.is_none_or(|(place, plan)| plan.check(place, QoS::AtMostOnce, false, payload).is_none())
        };
        let measured = PlainRun::measure(buffer, version, (RUN, limit), is_as_planned)?;
        let topic = topic.clone();
        open.last_heard = now;
        let bytes = buffer.split_to(measured.size()).freeze();
        Some(Run::plain(topic, measured.of(bytes), open.key, now))
    }

    pub(super) fn handle_publish(&mut self, now: Time, mut publish: Publish) {
        if !publish.properties.subscription_identifiers.is_empty() {
            return self.violated(now, Violation::SubscriptionIdentifier);
        }
        let open = self.phase.opened_mut();
        let alias = publish.properties.topic_alias.take();
        match open.inbound_aliases.resolve(publish.topic, alias) {
            Ok(topic) => publish.topic = topic,
            Err(AliasError::TooHigh { maximum }) => return self.violated(now, Violation::TopicAliasTooHigh(maximum)),
            Err(AliasError::Unknown) => return self.violated(now, Violation::TopicAliasUnknown),
        }
        if let Some(id) = publish.packet_id {
            open.unacknowledged.insert(id);
            // §4.9; 3.1.1 has no such bound, its client is read from more slowly instead.
            let most = usize::from(self.limits.receive_maximum);
            if open.unacknowledged.len() > most && self.version == ProtocolVersion::V5 {
                return self.violated(now, Violation::ReceiveMaximum(most));
            }
            // [MQTT-4.3.3-10]: what was received and not released is not passed on again.
            if publish.qos == QoS::ExactlyOnce && open.state.received.contains(&id) {
                return self.received_again(id);
            }
        }
        let checked = check_payload(publish.properties.payload_format_indicator, &publish.payload);
        match checked.and_then(|()| self.may_publish(now, &publish)) {
            Ok(()) => self.accept(now, publish),
            Err(reason) => {
                let (qos, packet_id, topic) = (publish.qos, publish.packet_id, publish.topic.clone());
                let message = self.message(now, publish).map(Arc::new);
                let refusal = reason.refusal(self.phase.opened().access.name(), Act::Publish, &topic, message);
                if let Some(id) = packet_id {
                    self.acknowledge(qos, id, refusal.reason.code(Act::Publish), &refusal);
                }
                self.refused(now, refusal);
            }
        }
    }

    fn accept(&mut self, now: Time, publish: Publish) {
        let Some(open) = self.phase.open_mut() else { return };
        let packet_id = publish.packet_id;
        if let Some(id) = packet_id {
            open.unanswered += 1;
            if publish.qos == QoS::ExactlyOnce {
                open.state.received.insert(id);
            }
        }
        if let Some(message) = self.message(now, publish) {
            self.actions.push_back(Action::Route { message: Arc::new(message), packet_id });
        }
    }

    /// The message that a client publishes.
    fn message(&self, now: Time, publish: Publish) -> Option<Message> {
        let open = self.phase.open()?;
        let Publish { qos, retain, topic, properties, payload, .. } = publish;
        let message = Message::new(topic, payload, qos, retain, properties, open.key, now);
        Some(if self.version == ProtocolVersion::V311 { message.of_untold_way() } else { message })
    }

    /// PUBREC once more, but not before the first one could go.
    fn received_again(&mut self, id: PacketId) {
        let packet = Packet::PubRec(Acknowledgement::success(id));
        self.after_commit(After::Send(Box::new(packet)));
    }

    /// The answer to [`Action::Route`] with a packet identifier: the publisher is told (§3.4, §3.5).
    pub fn handle_routed(&mut self, qos: QoS, packet_id: PacketId, routed: Routed) {
        let Some(open) = self.phase.open_mut() else { return };
        open.unanswered = open.unanswered.saturating_sub(1);
        match routed {
            Routed::To(0) => self.acknowledge(qos, packet_id, ReasonCode::NoMatchingSubscribers, &""),
            Routed::To(_) => self.acknowledge(qos, packet_id, ReasonCode::Success, &""),
            Routed::QueuesFull => {
                let words = "Message not accepted: the queue of every subscriber is full.";
                self.acknowledge(qos, packet_id, ReasonCode::QuotaExceeded, &words);
            }
            Routed::NotOwner(why) => {
                // §3.4.2.1: it is valid, and the receiver is not willing to accept it.
                let words = format!("Message withheld: {why}.");
                self.acknowledge(qos, packet_id, ReasonCode::ImplementationSpecific, &words);
            }
            Routed::RetainedFull(full) => {
                let refusal = Reason::Retained(full).refusal(open.access.name(), Act::Publish, "", None);
                self.acknowledge(qos, packet_id, ReasonCode::QuotaExceeded, &refusal);
                self.actions.push_back(Action::Refused(Box::new(refusal)));
            }
        }
    }

    /// 5.0 says a refusal in PUBACK or PUBREC. 3.1.1 can't: the message is acknowledged, dropped and recorded. At QoS 0
    /// neither can.
    fn acknowledge(&mut self, qos: QoS, packet_id: PacketId, reason: ReasonCode, why: &dyn Display) {
        let mut ack = Acknowledgement::success(packet_id);
        if self.version == ProtocolVersion::V5 {
            ack.reason = reason;
            if reason.is_error() {
                let reason_string = self.problem_string(why);
                ack.properties = AcknowledgementProperties { reason_string, ..AcknowledgementProperties::default() };
            }
        }
        let Some(open) = self.phase.open_mut() else { return };
        let exactly_once = qos == QoS::ExactlyOnce;
        // §4.3.3: a PUBREC that refuses ends the handshake, and so does PUBACK.
        if !exactly_once || ack.reason.is_error() {
            open.unacknowledged.remove(&packet_id);
            open.state.received.remove(&packet_id);
        }
        self.send(&if exactly_once { Packet::PubRec(ack) } else { Packet::PubAck(ack) });
    }

    /// [MQTT-4.3.3-11]: PUBREL is answered by PUBCOMP; the identifier is free when that has left.
    pub(super) fn handle_pubrel(&mut self, ack: &Acknowledgement) {
        let open = self.phase.opened_mut();
        open.unacknowledged.remove(&ack.packet_id);
        let known = open.state.received.remove(&ack.packet_id);
        let complete = Packet::PubComp(if known {
            Acknowledgement::success(ack.packet_id)
        } else {
            self.not_found(ack.packet_id)
        });
        if known && self.is_kept() {
            self.keep(Keep::Forget(ack.packet_id));
            self.after_commit(After::Send(Box::new(complete)));
        } else {
            self.send(&complete);
        }
    }

    pub(super) fn not_found(&self, packet_id: PacketId) -> Acknowledgement {
        let mut ack = Acknowledgement::success(packet_id);
        if self.version == ProtocolVersion::V5 {
            ack.reason = ReasonCode::PacketIdentifierNotFound;
        }
        ack
    }
}
