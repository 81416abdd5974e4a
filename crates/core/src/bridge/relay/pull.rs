//! What comes from there.

use bytes::Bytes;
use moorfall_wire::{
    Acknowledgement, AcknowledgementProperties, Packet, ProtocolVersion, Publish, PublishHead, PublishProperties, QoS,
    TopicName,
};
use smallvec::SmallVec;

use super::{Carried, End, Happened, Names, Over, Relay};
use crate::{
    Time,
    bridge::{Direction, NotCarried, Passed},
};

impl Relay {
    /// A packet of the session here that publishes what is pulled.
    pub fn handle_pull(&mut self, packet: Packet, now: Time) {
        match packet {
            Packet::PubAck(ack) => self.handle_pull_ack(&ack, QoS::AtLeastOnce, now),
            Packet::PubRec(ack) => self.handle_pull_ack(&ack, QoS::ExactlyOnce, now),
            Packet::PubComp(ack) => {
                self.send(End::Remote, &Packet::PubComp(Acknowledgement::success(ack.packet_id)));
            }
            _ => {}
        }
    }

    /// This broker has taken a message that was pulled, or has refused it.
    fn handle_pull_ack(&mut self, ack: &Acknowledgement, by: QoS, now: Time) {
        let id = ack.packet_id;
        let carried = self.pulled.remove(&id);
        let came_at = carried.as_ref().map_or(by, |carried| carried.qos.0);
        if let Some(Carried { mapping, topic, journey, at, .. }) = carried {
            self.happened.push_back(if ack.reason.is_error() {
                let (direction, why, said) = (Direction::Pull, NotCarried::Refused, Some(ack.into()));
                Happened::NotCarried { direction, mapping: Some(mapping), topic, why, said, journey }
            } else {
                Happened::Acknowledged { direction: Direction::Pull, mapping, took: now - at }
            });
        }
        let mut answer = Acknowledgement::success(id);
        // §3.4.2.1: a refusal is told to the remote, whose message it is.
        if self.terms.version == ProtocolVersion::V5 && ack.reason.is_error() {
            answer.reason = ack.reason;
            // [MQTT-3.4.2-2]: words are left out where they may not fit.
            let reason_string = ack.properties.reason_string.clone().filter(|_| self.terms.packet_size.is_none());
            answer.properties = AcknowledgementProperties { reason_string, ..AcknowledgementProperties::default() };
        }
        let is_exact = came_at == QoS::ExactlyOnce;
        self.send(End::Remote, &if is_exact { Packet::PubRec(answer) } else { Packet::PubAck(answer) });
    }

    pub(super) fn pull(&mut self, mut publish: Publish, now: Time, is_retained: impl Fn(&TopicName, &Bytes) -> bool) {
        let alias = publish.properties.topic_alias.take();
        match self.inbound.resolve(publish.topic, alias) {
            Ok(topic) => publish.topic = topic,
            Err(_) => {
                publish.topic = TopicName::default();
                return self.happened.push_back(Happened::Over(Over::Alias));
            }
        }
        self.retained.note(Direction::Pull, publish.retain, now);
        let from = publish.topic.clone();
        let Names { broker, link, .. } = &self.names;
        let was_here = |passed: &Passed| passed.has_passed(broker) || passed.has_passed(link);
        let passed = Passed::read(&publish.properties);
        if passed.as_ref().is_some_and(was_here) {
            self.not_carried(Direction::Pull, None, (from, 0), NotCarried::CameFromThere);
            return self.acknowledge_pull(&publish);
        }
        let v5 = self.terms.version == ProtocolVersion::V5;
        if !v5 && !publish.duplicate && self.echoes.take((&*publish.topic, &publish.payload), now) {
            self.not_carried(Direction::Pull, None, (from, 0), NotCarried::Echo);
            return self.acknowledge_pull(&publish);
        }
        let (mapping, to) = match self.taken(Direction::Pull, &publish, now) {
            Ok(taken) => taken,
            Err((mapping, why)) => {
                if why != NotCarried::NotCovered {
                    self.not_carried(Direction::Pull, mapping, (from, 0), why);
                }
                return self.acknowledge_pull(&publish);
            }
        };
        let terms = &self.bridge.pull[mapping];
        // In 3.1.1 only retained messages of a new subscription are told apart, so an empty message is taken for what
        // clears one.
        publish.retain |= !v5 && terms.clearing && publish.payload.is_empty();
        publish.retain &= terms.retained;
        if self.retained.is_pulling() && publish.retain && !publish.duplicate && is_retained(&to, &publish.payload) {
            self.not_carried(Direction::Pull, Some(mapping), (from, 0), NotCarried::Unchanged);
            return self.acknowledge_pull(&publish);
        }
        let came_at = publish.qos;
        publish.qos = publish.qos.min(terms.highest_qos);
        publish.topic = to;
        publish.properties.subscription_identifiers.clear();
        self.mark_pulled(&mut publish.properties, passed, !v5);
        let packet_id = publish.packet_id.filter(|_| publish.qos > QoS::AtMostOnce);
        publish.packet_id = packet_id;
        publish.duplicate &= packet_id.is_some();
        let head = PublishHead {
            topic: &publish.topic,
            properties: &publish.properties,
            payload: publish.payload.len(),
            version: ProtocolVersion::V5,
            packet_id,
        };
        let Publish { duplicate, qos, retain, .. } = publish;
        if self.to_pull.put_own_publish(&head, &publish.payload, duplicate, qos, retain).is_err() {
            self.not_carried(Direction::Pull, Some(mapping), (from, 0), NotCarried::TooLarge);
            return self.acknowledge_pull(&publish);
        }
        match packet_id {
            Some(id) => {
                let carried = Carried { mapping, topic: from, journey: 0, qos: (came_at, qos), at: now };
                self.pulled.insert(id, carried);
            }
            None => self.acknowledge_pull(&Publish { qos: came_at, ..publish.clone() }),
        }
        self.happened.push_back(Happened::Carried {
            direction: Direction::Pull,
            mapping,
            to: publish.topic,
            payload: publish.payload,
            untold: !v5,
            is_first: false,
            journey: 0,
        });
    }

    /// What is pulled has passed the remote and the link, which it does not go back by.
    fn mark_pulled(&mut self, properties: &mut PublishProperties, passed: Option<Passed>, unsure: bool) {
        let passed = passed.unwrap_or_else(|| Passed::new(self.next_id.next_id(), unsure));
        let Names { remote, link, .. } = &self.names;
        let hops = [remote.as_deref(), Some(link)];
        let hops: SmallVec<[&str; 2]> = hops.into_iter().flatten().collect();
        passed.write(&hops, properties);
    }

    /// The remote is told that its message is taken.
    fn acknowledge_pull(&mut self, publish: &Publish) {
        match (publish.qos, publish.packet_id) {
            (QoS::AtLeastOnce, Some(id)) => self.send(End::Remote, &Packet::PubAck(Acknowledgement::success(id))),
            (QoS::ExactlyOnce, Some(id)) => self.send(End::Remote, &Packet::PubRec(Acknowledgement::success(id))),
            _ => {}
        }
    }
}
