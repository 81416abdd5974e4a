//! The client's side of one connection, as a state machine over values.
//!
//! # The contract
//!
//! [`ClientSession::new`] writes CONNECT, and so does [`ClientSession::resume`], which goes on with the state of an
//! earlier connection. Inputs: [`ClientSession::handle_packet`], [`ClientSession::handle_timeout`],
//! [`ClientSession::handle_connection_lost`], and the wishes [`ClientSession::publish`],
//! [`ClientSession::subscribe`], [`ClientSession::unsubscribe`], [`ClientSession::ping`], [`ClientSession::disconnect`], which are allowed
//! once [`Event::Connected`] has come. Outputs: [`ClientSession::poll_event`] until it gives `None`, the bytes of
//! [`ClientSession::outgoing`], and [`ClientSession::poll_timeout`]. [`ClientSession::into_state`] gives what outlives
//! the connection.

use std::{
    collections::{HashSet, VecDeque},
    time::Duration,
};

use bytestring::ByteString;
use foldhash::fast::RandomState;
use moorfall_wire::{
    Acknowledgement, ConnAck, Connect, DecodeError, Disconnect, DisconnectProperties, EncodeError, Packet, PacketId,
    PacketType, ProtocolVersion, Publish, QoS, ReasonCode, SubAckProperties, Subscribe, SubscribeProperties,
    Subscription, TopicFilter, Unsubscribe, UnsubscribeProperties, UserProperty,
};

use crate::{
    Outgoing, Time,
    aliases::InboundAliases,
    in_flight::{InFlight, Quota},
};

/// How long an answer to PINGREQ may take.
const PING_ANSWER: Duration = Duration::from_secs(10);

/// What a client learns.
#[derive(Debug, PartialEq)]
#[must_use]
pub enum Event {
    /// The broker has accepted the connection.
    Connected(Box<ConnAck>),
    /// The broker has refused the connection; nothing follows.
    Refused {
        /// Why, for a program.
        reason: ReasonCode,
        /// Why, for a person, if the broker said so.
        reason_string: Option<ByteString>,
    },
    /// A message has arrived; it is acknowledged, and at QoS 2 it comes once.
    Message(Publish),
    /// A request has been answered, each part of it by a reason code; a QoS 2 message when its handshake is over.
    Answered {
        /// Which request.
        packet_id: PacketId,
        /// One for a publish, one for each filter otherwise; none for an UNSUBSCRIBE of 3.1.1.
        reasons: Vec<ReasonCode>,
        /// Why, for a person, if the broker said so.
        reason_string: Option<ByteString>,
        /// What else it said, of a subscription.
        user_properties: Vec<UserProperty>,
    },
    /// The broker does not know the session any more: whether this message arrived is not known.
    Forgotten {
        /// Which message.
        packet_id: PacketId,
    },
    /// PINGREQ was answered.
    Pong,
    /// The connection is over; nothing follows.
    Closed {
        /// Why, in a sentence.
        words: String,
        /// The broker's reason, if it has said one.
        reason: Option<ReasonCode>,
    },
}

/// What waits for an answer.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Pending {
    /// PUBACK or PUBREC.
    Publish(Box<Publish>),
    /// PUBCOMP; what PUBREC said is the answer.
    Release {
        reason: ReasonCode,
        reason_string: Option<ByteString>,
    },
    Subscribe,
    Unsubscribe,
}

impl Pending {
    /// Whether it belongs to the session and not only to the connection.
    fn outlives_connection(&self) -> bool {
        matches!(self, Self::Publish(_) | Self::Release { .. })
    }
}

/// What a client keeps when its connection ends (§4.1): messages that are not acknowledged to the end, and QoS 2
/// messages that were received and not released.
#[derive(Clone, Debug, Default)]
pub struct ClientState {
    in_flight: InFlight<Pending>,
    received: HashSet<PacketId, RandomState>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Phase {
    Connecting,
    Open,
    Closed,
}

/// Why a wish was not sent.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum WishError {
    /// The connection is not, or no longer, open.
    #[error("The connection is not open.")]
    NotOpen,
    /// As many requests wait for their answers as may; try again when one has been answered.
    #[error("Too many requests wait for a response.")]
    Busy,
    /// The packet can't be written.
    #[error(transparent)]
    Encode(#[from] EncodeError),
}

/// The client's side of one connection. See the module's contract.
#[derive(Debug)]
pub struct ClientSession {
    version: ProtocolVersion,
    phase: Phase,
    outgoing: Outgoing,
    events: VecDeque<Event>,
    state: ClientState,
    quota: Quota,
    /// Sent on an earlier connection and not yet again on this one.
    resend: VecDeque<PacketId>,
    aliases: InboundAliases,
    keep_alive: Duration,
    last_sent: Time,
    ping_sent: Option<Time>,
}

impl ClientSession {
    /// Requests that may wait for an answer, unless the broker asks for fewer.
    const WINDOW: u16 = 1_000;

    /// Begins a connection with this CONNECT.
    pub fn new(connect: Connect, now: Time) -> Result<Self, EncodeError> {
        Self::resume(connect, ClientState::default(), now)
    }

    /// Begins a connection that goes on with a session, if the broker still knows it. What was not acknowledged is
    /// sent again.
    pub fn resume(connect: Connect, state: ClientState, now: Time) -> Result<Self, EncodeError> {
        let mut session = Self {
            version: connect.version,
            phase: Phase::Connecting,
            outgoing: Outgoing::default(),
            events: VecDeque::new(),
            state,
            quota: Quota::new(Self::WINDOW),
            resend: VecDeque::new(),
            aliases: InboundAliases::new(connect.properties.topic_alias_maximum.unwrap_or(0)),
            keep_alive: Duration::from_secs(connect.keep_alive.into()),
            last_sent: now,
            ping_sent: None,
        };
        session.send(now, &Packet::Connect(Box::new(connect)))?;
        Ok(session)
    }

    /// The version that is spoken.
    pub fn version(&self) -> ProtocolVersion {
        self.version
    }

    /// What has happened.
    pub fn poll_event(&mut self) -> Option<Event> {
        self.events.pop_front()
    }

    /// Bytes for the broker.
    pub fn outgoing(&mut self) -> &mut Outgoing {
        &mut self.outgoing
    }

    /// When [`ClientSession::handle_timeout`] is due; `None` if never.
    pub fn poll_timeout(&self) -> Option<Time> {
        if self.phase != Phase::Open || self.keep_alive.is_zero() {
            return None;
        }
        Some(self.ping_sent.map_or(self.last_sent + self.keep_alive, |sent| sent + PING_ANSWER))
    }

    /// Whether another request may be made now.
    pub fn has_room(&self) -> bool {
        self.phase == Phase::Open && self.resend.is_empty() && self.quota.has_room()
    }

    /// What outlives the connection.
    pub fn into_state(self) -> ClientState {
        let mut state = self.state;
        for id in state.in_flight.ids() {
            if state.in_flight.get(id).is_some_and(|pending| !pending.outlives_connection()) {
                state.in_flight.remove(id);
            }
        }
        state
    }

    /// Sends a message; its packet identifier is set here. Gives the identifier that its answer will have, or `None`
    /// at QoS 0, which has no answer.
    pub fn publish(&mut self, now: Time, mut publish: Publish) -> Result<Option<PacketId>, WishError> {
        if self.phase != Phase::Open {
            return Err(WishError::NotOpen);
        }
        if publish.qos == QoS::AtMostOnce {
            publish.packet_id = None;
            self.send(now, &Packet::Publish(publish))?;
            return Ok(None);
        }
        let id = self.take_id(Pending::Publish(Box::new(publish.clone())))?;
        publish.packet_id = Some(id);
        self.request(now, id, &Packet::Publish(publish))?;
        Ok(Some(id))
    }

    /// Asks for messages; gives the identifier that the answer will have. The subscription identifier of the properties comes
    /// back with each message (5.0 only, as all of them).
    pub fn subscribe(
        &mut self,
        now: Time,
        subscriptions: Vec<Subscription>,
        properties: SubscribeProperties,
    ) -> Result<PacketId, WishError> {
        let packet_id = self.take_id(Pending::Subscribe)?;
        self.request(now, packet_id, &Packet::Subscribe(Subscribe { packet_id, properties, subscriptions }))?;
        Ok(packet_id)
    }

    /// Asks for no more messages; gives the identifier that the answer will have.
    pub fn unsubscribe(&mut self, now: Time, filters: Vec<TopicFilter>) -> Result<PacketId, WishError> {
        let packet_id = self.take_id(Pending::Unsubscribe)?;
        let unsubscribe = Unsubscribe { packet_id, properties: UnsubscribeProperties::default(), filters };
        self.request(now, packet_id, &Packet::Unsubscribe(unsubscribe))?;
        Ok(packet_id)
    }

    /// Asks whether the broker is there; [`Event::Pong`] is the answer.
    pub fn ping(&mut self, now: Time) -> Result<(), WishError> {
        if self.phase != Phase::Open {
            return Err(WishError::NotOpen);
        }
        self.send(now, &Packet::PingReq)?;
        self.ping_sent = Some(now);
        Ok(())
    }

    fn take_id(&mut self, pending: Pending) -> Result<PacketId, WishError> {
        if self.phase != Phase::Open {
            return Err(WishError::NotOpen);
        }
        if !self.has_room() {
            return Err(WishError::Busy);
        }
        let id = self.state.in_flight.insert(pending).ok_or(WishError::Busy)?;
        self.quota.take();
        Ok(id)
    }

    fn request(&mut self, now: Time, packet_id: PacketId, packet: &Packet) -> Result<(), WishError> {
        self.send(now, packet).map_err(|error| {
            self.state.in_flight.remove(packet_id);
            self.quota.give_back();
            error.into()
        })
    }

    /// Says goodbye; the connection is to be closed once the bytes are written.
    pub fn disconnect(&mut self, now: Time) {
        self.disconnect_with(now, &Disconnect::normal()).expect("a plain DISCONNECT always encodes");
    }

    /// Says goodbye with a reason or another session expiry (5.0 only).
    pub fn disconnect_with(&mut self, now: Time, disconnect: &Disconnect) -> Result<(), EncodeError> {
        if self.phase == Phase::Open {
            self.send(now, &Packet::Disconnect(disconnect.clone()))?;
            self.close("The connection was closed on this side.".into());
        }
        Ok(())
    }

    /// A packet has arrived.
    pub fn handle_packet(&mut self, now: Time, packet: Packet) {
        match (self.phase, packet) {
            (Phase::Connecting, Packet::ConnAck(connack)) => self.handle_connack(now, *connack),
            (Phase::Open, Packet::Publish(publish)) => self.handle_publish(now, publish),
            (Phase::Open, Packet::PubAck(ack)) => self.handle_puback(now, ack),
            (Phase::Open, Packet::PubRec(ack)) => self.handle_pubrec(now, ack),
            (Phase::Open, Packet::PubRel(ack)) => self.handle_pubrel(now, &ack),
            (Phase::Open, Packet::PubComp(ack)) => self.handle_pubcomp(now, &ack),
            (Phase::Open, Packet::SubAck(ack)) => {
                let SubAckProperties { reason_string, user_properties } = ack.properties;
                self.answer(now, ack.packet_id, &Pending::Subscribe, ack.reasons, (reason_string, user_properties));
            }
            (Phase::Open, Packet::UnsubAck(ack)) => {
                let said = (ack.properties.reason_string, Vec::new());
                self.answer(now, ack.packet_id, &Pending::Unsubscribe, ack.reasons, said);
            }
            (Phase::Open, Packet::PingResp) => {
                self.ping_sent = None;
                self.events.push_back(Event::Pong);
            }
            (Phase::Open, Packet::Disconnect(disconnect)) => {
                let why = disconnect.properties.reason_string.map_or_else(String::new, |words| format!(" {words}"));
                let words = format!("The broker ended the connection ({}).{why}", disconnect.reason.coded());
                self.close_for(words, Some(disconnect.reason));
            }
            (Phase::Closed, _) => {}
            (_, packet) => {
                self.fail(now, format!("The broker sent {}, which is not allowed here.", packet.packet_type()));
            }
        }
    }

    fn handle_connack(&mut self, now: Time, connack: ConnAck) {
        if connack.reason.is_error() {
            self.phase = Phase::Closed;
            self.events
                .push_back(Event::Refused { reason: connack.reason, reason_string: connack.properties.reason_string });
            return;
        }
        self.phase = Phase::Open;
        let window = connack.properties.receive_maximum.map_or(u16::MAX, Into::into);
        self.quota = Quota::new(window.min(Self::WINDOW));
        // [MQTT-3.2.2-21].
        if let Some(seconds) = connack.properties.server_keep_alive {
            self.keep_alive = Duration::from_secs(seconds.into());
        }
        let known = connack.session_present;
        self.events.push_back(Event::Connected(Box::new(connack)));
        if known {
            self.resend = self.state.in_flight.ids().into();
            return self.resend(now);
        }
        // [MQTT-3.2.2-5].
        for id in std::mem::take(&mut self.state).in_flight.ids() {
            self.events.push_back(Event::Forgotten { packet_id: id });
        }
    }

    /// Sends again what an earlier connection left, in order, as far as the broker takes it ([MQTT-4.4.0-1]).
    fn resend(&mut self, now: Time) {
        while let Some(&id) = self.resend.front() {
            let packet = match self.state.in_flight.get(id) {
                Some(Pending::Publish(_)) if !self.quota.has_room() => return,
                Some(Pending::Publish(publish)) => {
                    self.quota.take();
                    Some(Packet::Publish(Publish { duplicate: true, packet_id: Some(id), ..(**publish).clone() }))
                }
                Some(Pending::Release { .. }) => {
                    self.quota.take();
                    Some(Packet::PubRel(Acknowledgement::success(id)))
                }
                None => {
                    self.quota.take();
                    None
                }
                Some(Pending::Subscribe | Pending::Unsubscribe) => None,
            };
            self.resend.pop_front();
            if let Some(packet) = packet {
                self.send(now, &packet).expect("it was encoded before");
            }
        }
    }

    fn handle_publish(&mut self, now: Time, mut publish: Publish) {
        let alias = publish.properties.topic_alias.take();
        match self.aliases.resolve(publish.topic, alias) {
            Ok(topic) => publish.topic = topic,
            Err(_) => return self.fail(now, "The broker used a topic alias that is not allowed.".into()),
        }
        match (publish.qos, publish.packet_id) {
            (QoS::AtLeastOnce, Some(id)) => {
                self.send(now, &Packet::PubAck(Acknowledgement::success(id))).expect("a plain PUBACK always encodes");
            }
            (QoS::ExactlyOnce, Some(id)) => {
                self.send(now, &Packet::PubRec(Acknowledgement::success(id))).expect("a plain PUBREC always encodes");
                // [MQTT-4.3.3-10]: until it is released, the same identifier is the same message.
                if !self.state.received.insert(id) {
                    return;
                }
            }
            _ => {}
        }
        self.events.push_back(Event::Message(publish));
    }

    fn handle_puback(&mut self, now: Time, ack: Acknowledgement) {
        if let Some(Pending::Publish(publish)) = self.state.in_flight.get(ack.packet_id)
            && publish.qos == QoS::AtLeastOnce
        {
            self.finish(now, ack.packet_id, vec![ack.reason], (ack.properties.reason_string, Vec::new()));
        }
    }

    fn handle_pubrec(&mut self, now: Time, ack: Acknowledgement) {
        let id = ack.packet_id;
        match self.state.in_flight.get_mut(id) {
            Some(Pending::Publish(publish)) if publish.qos == QoS::ExactlyOnce && ack.reason.is_error() => {
                return self.finish(now, id, vec![ack.reason], (ack.properties.reason_string, Vec::new()));
            }
            Some(pending @ Pending::Publish(_)) => {
                *pending = Pending::Release { reason: ack.reason, reason_string: ack.properties.reason_string };
                self.state.in_flight.move_back(id);
            }
            Some(Pending::Release { .. }) => {}
            Some(_) | None => return self.send_release(now, self.not_found(id)),
        }
        self.send_release(now, Acknowledgement::success(id));
    }

    fn send_release(&mut self, now: Time, ack: Acknowledgement) {
        self.send(now, &Packet::PubRel(ack)).expect("a PUBREL without properties always encodes");
    }

    fn handle_pubrel(&mut self, now: Time, ack: &Acknowledgement) {
        let known = self.state.received.remove(&ack.packet_id);
        let complete = if known { Acknowledgement::success(ack.packet_id) } else { self.not_found(ack.packet_id) };
        self.send(now, &Packet::PubComp(complete)).expect("a PUBCOMP without properties always encodes");
    }

    fn handle_pubcomp(&mut self, now: Time, ack: &Acknowledgement) {
        if let Some(Pending::Release { reason, reason_string }) = self.state.in_flight.get(ack.packet_id) {
            let (reason, reason_string) = (*reason, reason_string.clone());
            self.finish(now, ack.packet_id, vec![reason], (reason_string, Vec::new()));
        }
    }

    fn not_found(&self, packet_id: PacketId) -> Acknowledgement {
        let mut ack = Acknowledgement::success(packet_id);
        if self.version == ProtocolVersion::V5 {
            ack.reason = ReasonCode::PacketIdentifierNotFound;
        }
        ack
    }

    fn answer(
        &mut self,
        now: Time,
        packet_id: PacketId,
        expected: &Pending,
        reasons: Vec<ReasonCode>,
        said: (Option<ByteString>, Vec<UserProperty>),
    ) {
        // An answer to nothing, or to another kind of request, is ignored: it can't harm.
        if self.state.in_flight.get(packet_id) == Some(expected) {
            self.finish(now, packet_id, reasons, said);
        }
    }

    fn finish(
        &mut self,
        now: Time,
        packet_id: PacketId,
        reasons: Vec<ReasonCode>,
        (reason_string, user_properties): (Option<ByteString>, Vec<UserProperty>),
    ) {
        self.state.in_flight.remove(packet_id);
        self.quota.give_back();
        self.events.push_back(Event::Answered { packet_id, reasons, reason_string, user_properties });
        if !self.resend.is_empty() {
            self.resend(now);
        }
    }

    /// The bytes that arrived are not a packet.
    pub fn handle_decode_error(&mut self, now: Time, error: &DecodeError) {
        self.fail(now, format!("The broker sent something that is not MQTT {}: {error}.", self.version));
    }

    /// A time that [`ClientSession::poll_timeout`] named has come.
    pub fn handle_timeout(&mut self, now: Time) {
        if self.poll_timeout().is_none_or(|due| now < due) {
            return;
        }
        if self.ping_sent.is_some() {
            return self.close("The broker no longer responds.".into());
        }
        self.send(now, &Packet::PingReq).expect("PINGREQ always encodes");
        self.ping_sent = Some(now);
    }

    /// The connection broke.
    pub fn handle_connection_lost(&mut self, words: String) {
        self.close(words);
    }

    fn fail(&mut self, now: Time, words: String) {
        if self.phase == Phase::Open && self.version == ProtocolVersion::V5 {
            let reason = ReasonCode::ProtocolError;
            debug_assert!(reason.allowed_in(PacketType::Disconnect));
            let disconnect = Disconnect { reason, properties: DisconnectProperties::default() };
            self.send(now, &Packet::Disconnect(disconnect)).expect("a DISCONNECT without properties always encodes");
        }
        self.close(words);
    }

    fn close(&mut self, words: String) {
        self.close_for(words, None);
    }

    fn close_for(&mut self, words: String, reason: Option<ReasonCode>) {
        if self.phase != Phase::Closed {
            self.phase = Phase::Closed;
            self.events.push_back(Event::Closed { words, reason });
        }
    }

    fn send(&mut self, now: Time, packet: &Packet) -> Result<(), EncodeError> {
        self.last_sent = now;
        self.outgoing.put_packet(packet, self.version)
    }
}
