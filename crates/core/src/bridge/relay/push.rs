//! What goes there.

use std::num::NonZeroU16;

use bytes::BytesMut;
use moorfall_wire::{
    Acknowledgement, CommonHead, MAX_PACKET_SIZE, Packet, PacketId, ProtocolVersion, Publish, PublishHead,
    PublishProperties, QoS, TopicName,
};

use super::{Carried, End, Happened, Names, Relay};
use crate::{
    MessageName, Part, Time,
    aliases::Written,
    bridge::{Direction, NotCarried, Passed},
    session::{Handed, HandedMessage},
};

/// What PUBLISH packets have in common that follow each other on one topic at QoS 0.
struct RunHead {
    common: CommonHead,
    /// How far from the end of the head the name of the message stands, if it has one.
    name_at: Option<usize>,
}

impl RunHead {
    /// Appends the packet with this payload, whose size was found to be allowed.
    fn put(&mut self, payload: &[u8], name: impl FnOnce() -> MessageName, out: &mut BytesMut) {
        if let Some(at) = self.name_at {
            let name = name();
            self.common.end_mut(at)[..name.digits().len()].copy_from_slice(name.digits());
        }
        self.common.write(payload, out).expect("its size was found to be allowed");
    }
}

impl Relay {
    /// A packet of the session here that receives what is pushed; its messages are handed over.
    pub fn handle_push(&mut self, packet: &Packet) {
        // It answers our pings and requests, which are the caller's.
        if let Packet::PubRel(ack) = packet {
            self.handle_push_release(ack.packet_id);
        }
    }

    /// What the session here has handed over.
    pub fn push(&mut self, handed: Handed, now: Time) {
        if let Handed::Run(part) = &handed
            && self.push_together(part, now)
        {
            return;
        }
        handed.into_messages().for_each(|message| self.push_message(&message, now));
    }

    /// Pushes messages that follow each other all at once; `false` if each has to be looked at.
    fn push_together(&mut self, part: &Part, now: Time) -> bool {
        let Some(plain) = part.plain() else { return false };
        let Ok((mapping, to)) = self.mapped(Direction::Push, part.topic()) else { return false };
        let terms = &self.bridge.push[mapping];
        if terms.condition.is_some() || terms.rate.is_some() {
            return false;
        }
        let v5 = self.terms.version == ProtocolVersion::V5;
        let untold = plain.is_of_untold_way();
        let written = if v5 && self.outbound.is_on() { self.outbound.write(&to) } else { Written::InFull };
        let none = TopicName::default();
        let (first, others) = match written {
            Written::InFull => (self.head_of_run((&to, None), untold), None),
            Written::ByAlias(alias) => (self.head_of_run((&none, Some(alias)), untold), None),
            Written::Introduced(alias) => {
                let by_alias = self.head_of_run((&none, Some(alias)), untold);
                (self.head_of_run((&to, Some(alias)), untold), Some(by_alias))
            }
        };
        let size = first.common.size(plain.largest_payload());
        if size > self.terms.packet_size.unwrap_or(MAX_PACKET_SIZE) {
            return false;
        }
        let key = &self.names.key;
        self.to_remote.put_publishes(part.len(), |out| {
            let (mut head, mut others) = (first, others);
            for (payload, apart) in plain.messages() {
                head.put(payload, || key.name_apart(apart, plain.received()), out);
                if let Some(others) = others.take() {
                    head = others;
                }
            }
        });
        if let Written::Introduced(alias) = written {
            self.outbound.introduced(&to, alias);
        }
        if !v5 {
            part.payloads().for_each(|payload| self.echoes.note((&*to, payload), now));
        }
        self.happened.push_back(Happened::PushedRun { mapping, to, part: part.clone(), untold });
        true
    }

    /// What the packets of a run have in common.
    fn head_of_run(&self, (topic, topic_alias): (&TopicName, Option<NonZeroU16>), untold: bool) -> RunHead {
        let version = self.terms.version;
        let mut properties = PublishProperties { topic_alias, ..PublishProperties::default() };
        let mut name_at = None;
        if version == ProtocolVersion::V5 {
            let Names { broker, link, .. } = &self.names;
            Passed::write_first(MessageName::NONE, untold, &[broker, link], &mut properties);
            // It stands at the end, and the name in front of it, behind what says that the way is not known.
            name_at = properties.user_properties.last().map(|way| way.value.len() - usize::from(untold));
        }
        let encodes = "it is a topic or an alias, and has properties only where the version has them";
        RunHead { common: CommonHead::new(topic, &properties, version).expect(encodes), name_at }
    }

    fn push_message(&mut self, handed: &HandedMessage, now: Time) {
        let mut publish = handed.packet();
        self.retained.note(Direction::Push, publish.retain, now);
        let Names { link, remote, .. } = &self.names;
        let was_there = |passed: &Passed| {
            passed.has_passed(link) || remote.as_ref().is_some_and(|remote| passed.has_passed(remote))
        };
        let passed = Passed::read(&publish.properties);
        let journey = handed.message.journey();
        if passed.as_ref().is_some_and(was_there) {
            let from = publish.topic.clone();
            self.not_carried(Direction::Push, None, (from, journey), NotCarried::CameFromThere);
            return self.settle_push(&publish);
        }
        match self.taken(Direction::Push, &publish, now) {
            Err((mapping, why)) => {
                // The filter of a mapping is wider than its named levels: that is no loss.
                if why != NotCarried::NotCovered {
                    let from = publish.topic.clone();
                    self.not_carried(Direction::Push, mapping, (from, journey), why);
                }
                self.settle_push(&publish);
            }
            Ok((mapping, to)) => {
                let qos = publish.qos;
                publish.topic = to;
                if self.write_push(&mut publish, handed, mapping, passed.as_ref(), now) {
                    if publish.qos == QoS::AtMostOnce && qos > QoS::AtMostOnce {
                        publish.qos = qos;
                        self.acknowledge_push(&publish);
                    }
                } else {
                    publish.qos = qos;
                    let from = handed.message.topic.clone();
                    self.not_carried(Direction::Push, Some(mapping), (from, journey), NotCarried::TooLarge);
                    self.settle_push(&publish);
                }
            }
        }
    }

    /// Writes a message to the remote; `false` if it is too large. Of the packet only QoS and identifier are left, QoS as it
    /// is there.
    fn write_push(
        &mut self,
        publish: &mut Publish,
        handed: &HandedMessage,
        mapping: usize,
        passed: Option<&Passed>,
        now: Time,
    ) -> bool {
        let terms = &self.bridge.push[mapping];
        let came_at = publish.qos;
        publish.qos = publish.qos.min(terms.highest_qos).min(self.terms.highest_qos);
        publish.retain &= terms.retained && self.terms.retained;
        let packet_id = publish.packet_id.filter(|_| publish.qos > QoS::AtMostOnce);
        publish.duplicate &= packet_id.is_some();
        let v5 = self.terms.version == ProtocolVersion::V5;
        publish.properties.subscription_identifiers.clear();
        publish.properties.topic_alias = None;
        let mut written = Written::InFull;
        if v5 {
            let (Names { broker, link, key, .. }, message) = (&self.names, &handed.message);
            match passed {
                Some(passed) => passed.write(&[broker, link], &mut publish.properties),
                None => {
                    let unsure = message.is_of_untold_way();
                    Passed::write_first(&message.name(key), unsure, &[broker, link], &mut publish.properties);
                }
            }
            if self.outbound.is_on() {
                written = self.outbound.write(&publish.topic);
            }
        }
        let none = TopicName::default();
        let topic = match written {
            Written::ByAlias(alias) => {
                publish.properties.topic_alias = Some(alias);
                &none
            }
            Written::Introduced(alias) => {
                publish.properties.topic_alias = Some(alias);
                &publish.topic
            }
            Written::InFull => &publish.topic,
        };
        let head = PublishHead {
            topic,
            properties: &publish.properties,
            payload: publish.payload.len(),
            version: self.terms.version,
            packet_id,
        };
        let fits = head.size().is_ok_and(|size| self.terms.packet_size.is_none_or(|most| size <= most));
        if !fits {
            return false;
        }
        if let Some(id) = packet_id.filter(|_| publish.qos == QoS::ExactlyOnce) {
            self.release_stale(id);
        }
        let put =
            self.to_remote.put_own_publish(&head, &publish.payload, publish.duplicate, publish.qos, publish.retain);
        if put.is_err() {
            return false;
        }
        if let Written::Introduced(alias) = written {
            self.outbound.introduced(&publish.topic, alias);
        }
        if !v5 {
            self.echoes.note((&*publish.topic, &publish.payload), now);
        }
        if let Some(id) = packet_id {
            let (topic, journey) = (handed.message.topic.clone(), handed.message.journey());
            let carried = Carried { mapping, topic, journey, qos: (came_at, publish.qos), at: now };
            self.pushed.insert(id, carried);
        }
        self.happened.push_back(Happened::Carried {
            direction: Direction::Push,
            mapping,
            to: std::mem::take(&mut publish.topic),
            payload: std::mem::take(&mut publish.payload),
            untold: passed.map_or(handed.message.is_of_untold_way(), |passed| passed.unsure),
            is_first: passed.is_none_or(|passed| passed.hops().next().is_none()),
            journey: handed.message.journey(),
        });
        true
    }

    /// The remote may hold this identifier from another time: it is released before it is used anew.
    fn release_stale(&mut self, id: PacketId) {
        if self.stale.as_mut().is_some_and(|used| used.insert(id)) {
            self.releasing.insert(id);
            self.send(End::Remote, &Packet::PubRel(Acknowledgement::success(id)));
        }
    }

    /// A message that is not carried on is done with here. At QoS 2 the remote may have it from before.
    fn settle_push(&mut self, publish: &Publish) {
        if let (QoS::ExactlyOnce, true, Some(id)) = (publish.qos, publish.duplicate, publish.packet_id)
            && self.terms.highest_qos == QoS::ExactlyOnce
        {
            self.releasing.insert(id);
            self.send(End::Remote, &Packet::PubRel(Acknowledgement::success(id)));
        }
        self.acknowledge_push(publish);
    }

    /// The session here is told that its message is taken.
    fn acknowledge_push(&mut self, publish: &Publish) {
        match (publish.qos, publish.packet_id) {
            (QoS::AtLeastOnce, Some(id)) => self.send(End::Push, &Packet::PubAck(Acknowledgement::success(id))),
            (QoS::ExactlyOnce, Some(id)) => {
                self.settled.insert(id);
                self.send(End::Push, &Packet::PubRec(Acknowledgement::success(id)));
            }
            _ => {}
        }
    }

    fn handle_push_release(&mut self, id: PacketId) {
        if self.settled.remove(&id) || self.terms.highest_qos < QoS::ExactlyOnce {
            return self.send(End::Push, &Packet::PubComp(Acknowledgement::success(id)));
        }
        self.send(End::Remote, &Packet::PubRel(Acknowledgement::success(id)));
    }

    /// The remote has a QoS 1 message, or has refused it.
    pub(super) fn handle_push_ack(&mut self, ack: &Acknowledgement, now: Time) {
        let Some(carried) = self.pushed.get(&ack.packet_id) else { return };
        let came_at = carried.qos.0;
        self.end_push(ack, now);
        let packet = if came_at == QoS::ExactlyOnce {
            self.settled.insert(ack.packet_id);
            Packet::PubRec(Acknowledgement::success(ack.packet_id))
        } else {
            Packet::PubAck(Acknowledgement::success(ack.packet_id))
        };
        self.send(End::Push, &packet);
    }

    /// The remote has a QoS 2 message, or has refused it.
    pub(super) fn handle_push_received(&mut self, ack: &Acknowledgement, now: Time) {
        if !self.pushed.contains_key(&ack.packet_id) {
            // Of a time that nobody here knows of: it is brought to its end (§4.3.3).
            self.releasing.insert(ack.packet_id);
            return self.send(End::Remote, &Packet::PubRel(Acknowledgement::success(ack.packet_id)));
        }
        if ack.reason.is_error() {
            // §4.3.3: that ends it there.
            self.end_push(ack, now);
            self.settled.insert(ack.packet_id);
        }
        self.send(End::Push, &Packet::PubRec(Acknowledgement::success(ack.packet_id)));
    }

    fn end_push(&mut self, ack: &Acknowledgement, now: Time) {
        if !ack.reason.is_error() {
            return self.done_push(ack.packet_id, now);
        }
        if let Some(Carried { mapping, topic, journey, .. }) = self.pushed.remove(&ack.packet_id) {
            let (direction, mapping, why) = (Direction::Push, Some(mapping), NotCarried::Refused);
            let said = Some(ack.into());
            self.happened.push_back(Happened::NotCarried { direction, mapping, topic, why, said, journey });
        }
    }

    pub(super) fn done_push(&mut self, id: PacketId, now: Time) {
        if let Some(Carried { mapping, at, .. }) = self.pushed.remove(&id) {
            self.happened.push_back(Happened::Acknowledged { direction: Direction::Push, mapping, took: now - at });
        }
    }
}
