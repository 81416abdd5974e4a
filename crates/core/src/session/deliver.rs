//! Messages to the client, and its acknowledgements of them (§4.3, §4.4).

use std::{borrow::Cow, fmt, sync::Arc};

use bytes::Bytes;
use moorfall_wire::{
    Acknowledgement, EncodedPublish, Packet, PacketId, PacketType, ProtocolVersion, PublishHead, PublishProperties,
    QoS, ReasonCode, TopicName,
};
use strum::{EnumString, IntoStaticStr, VariantNames};

use super::{
    action::{Action, Keep},
    ended::Violation,
    handed::{Handed, HandedMessage},
    machine::{After, Open, Phase, Session},
    state::{InUse, Sent},
};
use crate::{Delivery, Message, Outgoing, Part, Queued, Time, aliases::Written};

/// Why a message that was routed to a session was not sent to it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, VariantNames, IntoStaticStr, EnumString)]
#[strum(serialize_all = "kebab-case")]
pub enum Withheld {
    /// The session's queue was at its bound.
    QueueFull,
    /// It is larger than the client takes ([MQTT-3.1.2-25]).
    TooLarge,
    /// Its life ended while it waited ([MQTT-3.3.2-5]).
    Expired,
    /// A rule denies this topic within an allowed filter.
    NotAllowed,
    /// The condition of the subscription, or one of the design, is not true of it.
    NotTrue,
    /// Such a condition is neither true nor false of it.
    NoVerdict,
    /// The session is over, or the client is away and the message was sent at QoS 0.
    Gone,
}

impl fmt::Display for Withheld {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::QueueFull => "the queue is full",
            Self::TooLarge => "larger than the Maximum Packet Size of the client",
            Self::Expired => "expired in the queue",
            Self::NotAllowed => "a rule denies the topic",
            Self::NotTrue => "the condition is not true of it",
            Self::NoVerdict => "the condition can't be judged",
            Self::Gone => "the client is disconnected",
        })
    }
}

/// A message that was not sent, and why.
#[derive(Debug)]
pub struct Undelivered {
    /// Why.
    pub why: Withheld,
    /// What.
    pub message: Arc<Message>,
}

/// What became of what was queued.
#[derive(Debug, Default)]
pub struct Handled {
    /// Messages that were sent.
    pub sent: u64,
    /// Those that were not and will not be.
    pub withheld: Vec<Undelivered>,
}

/// A message as one receiver gets it.
enum Form<'a> {
    /// In the encoding that all share.
    Shared(&'a EncodedPublish),
    /// In its own: nobody else receives the message, or something in it differs.
    Own { topic: TopicName, properties: Cow<'a, PublishProperties>, payload: &'a Bytes },
}

impl Form<'_> {
    fn size(&self, version: ProtocolVersion, packet_id: Option<PacketId>) -> Result<usize, Withheld> {
        match self {
            Self::Shared(encoded) => Ok(encoded.size()),
            Self::Own { .. } => self.head(version, packet_id).size().map_err(|_| Withheld::TooLarge),
        }
    }

    fn head(&self, version: ProtocolVersion, packet_id: Option<PacketId>) -> PublishHead<'_> {
        match self {
            Self::Own { topic, properties, payload } => {
                PublishHead { topic, properties, payload: payload.len(), version, packet_id }
            }
            Self::Shared(_) => unreachable!("only an encoding of its own has a head of its own"),
        }
    }

    fn put(
        &self,
        out: &mut Outgoing,
        version: ProtocolVersion,
        (duplicate, qos, retain): (bool, QoS, bool),
        packet_id: Option<PacketId>,
    ) {
        match self {
            Self::Shared(encoded) => out.put_publish(encoded, duplicate, qos, retain, packet_id),
            Self::Own { payload, .. } => out
                .put_own_publish(&self.head(version, packet_id), payload, duplicate, qos, retain)
                .expect("its size was found, and its fields were decoded once"),
        }
    }
}

impl Session {
    /// How many messages at `qos` can be sent now: none while the client has as many unacknowledged as it takes
    /// ([MQTT-3.3.4-9]), and until what an earlier connection left has been sent again ([MQTT-4.6.0-1]).
    pub fn room_for(&self, qos: QoS) -> usize {
        match &self.phase {
            Phase::Open(open) if open.resend.is_empty() => match qos {
                QoS::AtMostOnce => usize::MAX,
                _ => open.quota.left().min(open.state.in_flight.left()),
            },
            _ => 0,
        }
    }

    /// Sends what was queued, from the front: as much as the client takes, and until `ahead` bytes wait to be written.
    /// What was sent or withheld is taken off; `None` is left when that is all. A message that is withheld is done
    /// with, also on disk.
    pub fn handle_queued(&mut self, now: Time, queued: &mut Option<Queued>, ahead: usize) -> Handled {
        let mut handled = Handled::default();
        while let Some(entry) = queued {
            let most = self.room_for(entry.qos());
            let before = self.ahead();
            if most == 0 || before >= ahead {
                break;
            }
            let sent = match entry {
                Queued::Part(part) => match self.deliver_together(part, most, ahead - before) {
                    0 => {
                        let (alone, delivery) = (part.is_alone(), part.next());
                        delivery.map_or(Ok(0), |delivery| self.handle_delivery(now, delivery, alone))
                    }
                    together => Ok(together),
                },
                Queued::One(_) => match queued.take() {
                    Some(Queued::One(delivery)) => {
                        // What is retained is sent to one at a time, and must not keep an encoding for good.
                        let alone = delivery.retain || Arc::strong_count(&delivery.message) == 1;
                        self.handle_delivery(now, delivery, alone)
                    }
                    _ => Ok(0),
                },
            };
            match sent {
                Ok(count) => handled.sent += count as u64,
                Err(undelivered) => handled.withheld.push(undelivered),
            }
            if queued.as_ref().is_some_and(Queued::is_empty) {
                *queued = None;
            }
        }
        handled
    }

    /// Sends messages of a part in the encoding of their run, at most so many and as many bytes, and takes them off.
    /// Gives how many: none if something is in the way that only a look at each message can tell.
    fn deliver_together(&mut self, part: &mut Part, most: usize, room: usize) -> usize {
        let version = self.version;
        let Some(open) = self.phase.open_mut() else { return 0 };
        // What may be handed on, kept or sent again is held one by one, and so is what has a handshake of two steps.
        let passes = match part.qos {
            QoS::AtMostOnce => true,
            QoS::AtLeastOnce => !open.is_kept() && part.shared().is_none(),
            QoS::ExactlyOnce => false,
        };
        let has_identifiers = part.via.as_ref().is_some_and(|via| !via.identifiers.is_empty());
        let has_own = has_identifiers || open.outbound_aliases.is_on();
        let own_form = version == ProtocolVersion::V5 && has_own;
        let is_own = part.is_alone() && part.run().as_it_came(version, part.qos).is_none();
        // One whose journey is recorded is followed to its acknowledgement.
        let is_one = part.len() < 2 && (self.handing.is_some() || is_own || part.run().journey() != 0);
        if is_one || !passes || own_form || part.run().expires() {
            return 0;
        }
        if open.withholds(part.run().topic()) {
            return 0;
        }
        if let Some(handing) = &mut self.handing {
            // One by one it is no more work.
            if part.qos != QoS::AtMostOnce {
                return 0;
            }
            let count = part.fitting(room).clamp(1, most.min(part.len()));
            handing.push(Handed::Run(part.split_to(count)));
            return count;
        }
        let Some(encoded) = part.run().encoded(version, part.qos) else { return 0 };
        if encoded.largest() > self.client_packet_size {
            return 0;
        }
        let first = part.left().start;
        let count = encoded.fitting(first, part.len().min(most), room);
        let range = first..first + count;
        if part.qos == QoS::AtMostOnce {
            self.outgoing.put_shared(count, encoded.shared(range));
        } else {
            let in_flight = &mut open.state.in_flight;
            self.outgoing.put_run(encoded, range, || {
                open.quota.take();
                in_flight.insert(InUse::Passing).expect("there are as many free as `most` says")
            });
        }
        part.advance(count);
        count
    }

    /// Sends one message. `alone` says that nobody else is to receive it.
    fn handle_delivery(&mut self, now: Time, delivery: Delivery, alone: bool) -> Result<usize, Undelivered> {
        let mut place = Some(delivery);
        match (self.deliver(now, &mut place, alone), place) {
            (Ok(()), _) => Ok(1),
            (Err(why), Some(delivery)) => {
                let message = Arc::clone(&delivery.message);
                if delivery.sequence > 0 {
                    self.keep(Keep::Done(delivery));
                }
                Err(Undelivered { why, message })
            }
            (Err(_), None) => unreachable!("a delivery is taken only when it is sent"),
        }
    }

    /// Takes the delivery out of its place when it goes into flight.
    fn deliver(&mut self, now: Time, place: &mut Option<Delivery>, alone: bool) -> Result<(), Withheld> {
        let version = self.version;
        let Some(open) = self.phase.open_mut() else { return Err(Withheld::Gone) };
        let Some(delivery) = place.as_ref() else { return Ok(()) };
        let message = &delivery.message;
        if open.withholds(&message.topic) {
            return Err(Withheld::NotAllowed);
        }
        let acknowledged = delivery.qos != QoS::AtMostOnce;
        if acknowledged && open.state.in_flight.is_full() {
            return Err(Withheld::QueueFull);
        }
        let id = acknowledged.then(|| open.state.in_flight.next_id());
        let must_be_safe = delivery.qos == QoS::ExactlyOnce && delivery.sequence > 0;
        let flags = (acknowledged && delivery.duplicate, delivery.qos, delivery.retain);
        if let Some(handing) = &mut self.handing {
            let life = life_left(message, now, false)?;
            if !must_be_safe {
                let (duplicate, qos, retain) = flags;
                let message = Arc::clone(message);
                let handed = HandedMessage { message, qos, retain, duplicate, packet_id: id, life };
                handing.push(Handed::Message(handed));
            }
        } else {
            let (form, written) = open.form(now, delivery, alone, version, false)?;
            if form.size(version, id)? > self.client_packet_size {
                return Err(Withheld::TooLarge);
            }
            if !must_be_safe {
                form.put(&mut self.outgoing, version, flags, id);
                if let Written::Introduced(alias) = written {
                    open.outbound_aliases.introduced(&message.topic, alias);
                }
            }
        }
        let Some(id) = id else { return Ok(()) };
        let Some(delivery) = place.take() else { return Ok(()) };
        open.quota.take();
        // The client takes a second PUBLISH under another identifier for another message. So the identifier must
        // survive before it is used.
        let to_keep = must_be_safe.then(|| delivery.clone());
        open.state.in_flight.insert_at(id, InUse::Sent(Box::new(Sent { delivery, released: false })));
        if let Some(delivery) = to_keep {
            self.keep(Keep::Assign(id, delivery));
            self.after_commit(After::Deliver(id));
        }
        Ok(())
    }

    /// Sends what is in flight under `id`: for the first time on this connection, or for the first time at all.
    pub(super) fn send_message(&mut self, now: Time, id: PacketId, again: bool) {
        let version = self.version;
        let Some(open) = self.phase.open_mut() else { return };
        let Some(sent) = open.state.sent(id) else { return };
        if sent.released {
            return;
        }
        let Delivery { qos, retain, duplicate, .. } = sent.delivery;
        let delivery = sent.delivery.clone();
        if let Some(handing) = &mut self.handing {
            match life_left(&delivery.message, now, again) {
                Ok(life) => {
                    let (message, duplicate) = (delivery.message, again || duplicate);
                    let handed = HandedMessage { message, qos, retain, duplicate, packet_id: Some(id), life };
                    handing.push(Handed::Message(handed));
                }
                Err(_) => self.finish(now, id),
            }
            return;
        }
        let form = open.form(now, &delivery, false, version, again);
        match form {
            Ok((form, written)) if form.size(version, Some(id)).is_ok_and(|size| size <= self.client_packet_size) => {
                // [MQTT-3.3.1-1].
                form.put(&mut self.outgoing, version, (again || duplicate, qos, retain), Some(id));
                if let Written::Introduced(alias) = written {
                    open.outbound_aliases.introduced(&delivery.message.topic, alias);
                }
            }
            // Its life ended, or this connection takes less: there is nothing to send.
            _ => self.finish(now, id),
        }
    }

    /// Sends again what an earlier connection left, in the order of that time, as far as the client takes it
    /// ([MQTT-4.4.0-1], [MQTT-4.6.0-1]).
    pub(super) fn resend(&mut self, now: Time) {
        while let Some(open) = self.phase.open_mut() {
            let Some(&id) = open.resend.front() else { return };
            let released = open.state.sent(id).map(|sent| sent.released);
            if released == Some(false) && !open.quota.has_room() {
                return;
            }
            open.resend.pop_front();
            open.quota.take();
            match released {
                None => {}
                Some(true) => self.send(&Packet::PubRel(Acknowledgement::success(id))),
                Some(false) => self.send_message(now, id, true),
            }
        }
    }

    pub(super) fn puback(&mut self, now: Time, id: PacketId, reason: ReasonCode) {
        let open = self.phase.opened_mut();
        match open.state.in_flight.get(id) {
            Some(InUse::Sent(sent)) if sent.delivery.qos != QoS::AtLeastOnce => {
                self.mismatch(now, PacketType::PubAck, id);
            }
            Some(InUse::Sent(sent)) => {
                let journey = sent.delivery.message.journey();
                self.answered(now, id, journey, reason);
            }
            Some(InUse::Passing) => self.finish(now, id),
            // An identifier that is not in use: the standard has no answer to PUBACK.
            None => {}
        }
    }

    pub(super) fn handle_pubrec(&mut self, now: Time, ack: &Acknowledgement) {
        let id = ack.packet_id;
        let open = self.phase.opened_mut();
        let sent = match open.state.in_flight.get_mut(id) {
            Some(InUse::Sent(sent)) => sent,
            Some(InUse::Passing) => return self.mismatch(now, PacketType::PubRec, id),
            None => return self.send(&Packet::PubRel(self.not_found(id))),
        };
        if sent.delivery.qos != QoS::ExactlyOnce {
            return self.mismatch(now, PacketType::PubRec, id);
        }
        // §4.3.3: a refusal ends the handshake. [MQTT-4.8.2-6]: nobody else gets the message instead.
        if ack.reason.is_error() {
            let journey = sent.delivery.message.journey();
            return self.answered(now, id, journey, ack.reason);
        }
        let release = Packet::PubRel(Acknowledgement::success(id));
        if std::mem::replace(&mut sent.released, true) || sent.delivery.sequence == 0 {
            open.state.in_flight.move_back(id);
            return self.send(&release);
        }
        let delivery = sent.delivery.clone();
        open.state.in_flight.move_back(id);
        // After PUBREL the client forgets the message; if PUBREC were forgotten here it would be sent anew.
        self.keep(Keep::Release(id, delivery));
        self.after_commit(After::Send(Box::new(release)));
    }

    pub(super) fn handle_pubcomp(&mut self, now: Time, ack: &Acknowledgement) {
        let open = self.phase.opened_mut();
        match open.state.in_flight.get(ack.packet_id) {
            Some(InUse::Sent(sent)) if sent.released => {
                let journey = sent.delivery.message.journey();
                self.answered(now, ack.packet_id, journey, ReasonCode::Success);
            }
            Some(_) => self.mismatch(now, PacketType::PubComp, ack.packet_id),
            None => {}
        }
    }

    fn mismatch(&mut self, now: Time, packet: PacketType, id: PacketId) {
        self.violated(now, Violation::Acknowledgement(packet, id));
    }

    /// The client has answered a message to the end of its handshake.
    fn answered(&mut self, now: Time, id: PacketId, journey: u64, reason: ReasonCode) {
        if journey != 0 {
            self.actions.push_back(Action::Acknowledged { journey, reason });
        }
        self.finish(now, id);
    }

    /// A message in flight is done with.
    fn finish(&mut self, now: Time, id: PacketId) {
        let Some(open) = self.phase.open_mut() else { return };
        let Some(used) = open.state.in_flight.remove(id) else { return };
        open.quota.give_back();
        let waiting = !open.resend.is_empty() && !open.resends_when_safe;
        if let InUse::Sent(sent) = used
            && sent.delivery.sequence > 0
        {
            self.keep(Keep::Done(sent.delivery));
        }
        if waiting {
            self.resend(now);
        }
    }
}

impl Open {
    /// Whether a rule keeps messages of this topic back.
    fn withholds(&self, topic: &TopicName) -> bool {
        if self.rights_may_be_lost { !self.access.may_receive(topic) } else { self.access.withholds(topic) }
    }

    /// The message as this receiver gets it. The encoding that all share serves unless something is its own: less
    /// life left ([MQTT-3.3.2-6]), subscription identifiers, a topic alias; or unless nobody shares it. `started` says
    /// that it was sent before.
    fn form<'a>(
        &self,
        now: Time,
        delivery: &'a Delivery,
        alone: bool,
        version: ProtocolVersion,
        started: bool,
    ) -> Result<(Form<'a>, Written), Withheld> {
        let message: &Message = &delivery.message;
        let life = life_left(message, now, started)?;
        let identifiers = delivery.via.as_ref().map_or(&[][..], |via| &via.identifiers);
        let written = if version == ProtocolVersion::V5 && self.outbound_aliases.is_on() {
            self.outbound_aliases.write(&message.topic)
        } else {
            Written::InFull
        };
        let own =
            life != message.properties.message_expiry_interval || !identifiers.is_empty() || written != Written::InFull;
        if version == ProtocolVersion::V311 || !own {
            if alone {
                let properties = Cow::Borrowed(&*message.properties);
                let (topic, payload) = (message.topic.clone(), &message.payload);
                return Ok((Form::Own { topic, properties, payload }, Written::InFull));
            }
            let acknowledged = delivery.qos != QoS::AtMostOnce;
            let shared = message.encoded(version, acknowledged).ok_or(Withheld::TooLarge)?;
            return Ok((Form::Shared(shared), Written::InFull));
        }
        let (topic_alias, topic) = match written {
            Written::InFull => (None, message.topic.clone()),
            Written::Introduced(alias) => (Some(alias), message.topic.clone()),
            Written::ByAlias(alias) => (Some(alias), TopicName::default()),
        };
        let properties = PublishProperties {
            message_expiry_interval: life,
            subscription_identifiers: identifiers.to_vec(),
            topic_alias,
            ..PublishProperties::clone(&message.properties)
        };
        Ok((Form::Own { topic, properties: Cow::Owned(properties), payload: &message.payload }, written))
    }
}

/// What is left of a message's life, seconds. What has begun is completed ([MQTT-4.3.3-7]); else it is not sent when its
/// life is over ([MQTT-3.3.2-5]).
fn life_left(message: &Message, now: Time, started: bool) -> Result<Option<u32>, Withheld> {
    match message.expiry_left(now) {
        Some(0) if !started => Err(Withheld::Expired),
        life => Ok(life.map(|left| left.max(1))),
    }
}
