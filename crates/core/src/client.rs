//! The client's side of one connection, as a state machine over values.
//!
//! # The contract
//!
//! [`ClientSession::new`] writes CONNECT. Inputs: [`ClientSession::handle_packet`], [`ClientSession::handle_timeout`],
//! [`ClientSession::handle_connection_lost`], and the wishes [`ClientSession::publish`],
//! [`ClientSession::subscribe`], [`ClientSession::unsubscribe`], [`ClientSession::disconnect`], which are allowed
//! once [`Event::Connected`] has come. Outputs: [`ClientSession::poll_event`] until it gives `None`, the bytes of
//! [`ClientSession::outgoing`], and [`ClientSession::poll_timeout`].

use std::{collections::VecDeque, time::Duration};

use bytestring::ByteString;
use moorfall_wire::{
    Acknowledgement, ConnAck, Connect, DecodeError, Disconnect, DisconnectProperties, EncodeError, Packet, PacketId,
    PacketType, ProtocolVersion, Publish, QoS, ReasonCode, Subscribe, SubscribeProperties, Subscription, TopicFilter,
    Unsubscribe, UnsubscribeProperties,
};

use crate::{Outgoing, Time, in_flight::InFlight};

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
        words: Option<ByteString>,
    },
    /// A message has arrived; at QoS 1 it is acknowledged.
    Message(Publish),
    /// A request has been answered, each part of it by a reason code.
    Answered {
        /// Which request.
        packet_id: PacketId,
        /// One for a publish, one for each filter otherwise; none for an UNSUBSCRIBE of 3.1.1.
        reasons: Vec<ReasonCode>,
        /// Why, for a person, if the broker said so.
        words: Option<ByteString>,
    },
    /// The connection is over; nothing follows.
    Closed {
        /// Why, in a sentence.
        words: String,
    },
}

/// What waits for an answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Pending {
    Publish,
    Subscribe,
    Unsubscribe,
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
    #[error("the connection is not open")]
    NotOpen,
    /// As many requests wait for their answers as may; try again when one has been answered.
    #[error("too many requests are waiting for an answer")]
    Busy,
    /// QoS 2 is not built yet.
    #[error("QoS 2 is not supported yet")]
    QoS2,
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
    in_flight: InFlight<Pending>,
    keep_alive: Duration,
    last_sent: Time,
    ping_sent: Option<Time>,
}

impl ClientSession {
    /// Requests that may wait for an answer, unless the broker asks for fewer.
    const WINDOW: u16 = 1_000;

    /// Begins a connection with this CONNECT.
    pub fn new(connect: Connect, now: Time) -> Result<Self, EncodeError> {
        let mut session = Self {
            version: connect.version,
            phase: Phase::Connecting,
            outgoing: Outgoing::default(),
            events: VecDeque::new(),
            in_flight: InFlight::new(Self::WINDOW),
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
        self.phase == Phase::Open && self.in_flight.has_room()
    }

    /// Sends a message; its packet identifier is set here. Gives the identifier that its answer will have, or `None`
    /// at QoS 0, which has no answer.
    pub fn publish(&mut self, now: Time, mut publish: Publish) -> Result<Option<PacketId>, WishError> {
        match publish.qos {
            _ if self.phase != Phase::Open => return Err(WishError::NotOpen),
            QoS::ExactlyOnce => return Err(WishError::QoS2),
            QoS::AtMostOnce => publish.packet_id = None,
            QoS::AtLeastOnce => {
                publish.packet_id = Some(self.in_flight.insert(Pending::Publish).ok_or(WishError::Busy)?);
            }
        }
        let packet_id = publish.packet_id;
        self.request(now, packet_id, &Packet::Publish(publish))?;
        Ok(packet_id)
    }

    /// Asks for messages; gives the identifier that the answer will have.
    pub fn subscribe(&mut self, now: Time, subscriptions: Vec<Subscription>) -> Result<PacketId, WishError> {
        let packet_id = self.take_id(Pending::Subscribe)?;
        let subscribe = Subscribe { packet_id, properties: SubscribeProperties::default(), subscriptions };
        self.request(now, Some(packet_id), &Packet::Subscribe(subscribe))?;
        Ok(packet_id)
    }

    /// Asks for no more messages; gives the identifier that the answer will have.
    pub fn unsubscribe(&mut self, now: Time, filters: Vec<TopicFilter>) -> Result<PacketId, WishError> {
        let packet_id = self.take_id(Pending::Unsubscribe)?;
        let unsubscribe = Unsubscribe { packet_id, properties: UnsubscribeProperties::default(), filters };
        self.request(now, Some(packet_id), &Packet::Unsubscribe(unsubscribe))?;
        Ok(packet_id)
    }

    fn take_id(&mut self, pending: Pending) -> Result<PacketId, WishError> {
        if self.phase != Phase::Open {
            return Err(WishError::NotOpen);
        }
        self.in_flight.insert(pending).ok_or(WishError::Busy)
    }

    fn request(&mut self, now: Time, packet_id: Option<PacketId>, packet: &Packet) -> Result<(), WishError> {
        self.send(now, packet).map_err(|error| {
            if let Some(id) = packet_id {
                self.in_flight.remove(id);
            }
            error.into()
        })
    }

    /// Says goodbye; the connection is to be closed once the bytes are written.
    pub fn disconnect(&mut self, now: Time) {
        if self.phase == Phase::Open {
            self.send(now, &Packet::Disconnect(Disconnect::normal())).expect("a plain DISCONNECT always encodes");
            self.close("this side disconnected".into());
        }
    }

    /// A packet has arrived.
    pub fn handle_packet(&mut self, now: Time, packet: Packet) {
        match (self.phase, packet) {
            (Phase::Connecting, Packet::ConnAck(connack)) => self.handle_connack(*connack),
            (Phase::Open, Packet::Publish(publish)) => self.handle_publish(now, publish),
            (Phase::Open, Packet::PubAck(ack)) => {
                self.answer(ack.packet_id, Pending::Publish, vec![ack.reason], ack.properties.reason_string);
            }
            (Phase::Open, Packet::SubAck(ack)) => {
                self.answer(ack.packet_id, Pending::Subscribe, ack.reasons, ack.properties.reason_string);
            }
            (Phase::Open, Packet::UnsubAck(ack)) => {
                self.answer(ack.packet_id, Pending::Unsubscribe, ack.reasons, ack.properties.reason_string);
            }
            (Phase::Open, Packet::PingResp) => self.ping_sent = None,
            (Phase::Open, Packet::Disconnect(disconnect)) => {
                let why = disconnect.properties.reason_string.map_or_else(String::new, |words| format!(": {words}"));
                self.close(format!("the broker ended the connection with {}{why}", disconnect.reason));
            }
            (Phase::Closed, _) => {}
            (_, packet) => {
                self.fail(now, format!("the broker sent {}, which is not allowed here", packet.packet_type()));
            }
        }
    }

    fn handle_connack(&mut self, connack: ConnAck) {
        if connack.reason.is_error() {
            self.phase = Phase::Closed;
            let words = connack.properties.reason_string;
            self.events.push_back(Event::Refused { reason: connack.reason, words });
            return;
        }
        self.phase = Phase::Open;
        let window = connack.properties.receive_maximum.map_or(u16::MAX, Into::into);
        self.in_flight = InFlight::new(window.min(Self::WINDOW));
        // [MQTT-3.2.2-21].
        if let Some(seconds) = connack.properties.server_keep_alive {
            self.keep_alive = Duration::from_secs(seconds.into());
        }
        self.events.push_back(Event::Connected(Box::new(connack)));
    }

    fn handle_publish(&mut self, now: Time, publish: Publish) {
        match (publish.qos, publish.packet_id) {
            (QoS::AtLeastOnce, Some(id)) => {
                self.send(now, &Packet::PubAck(Acknowledgement::success(id))).expect("a plain PUBACK always encodes");
            }
            // Never granted, because never asked for.
            (QoS::ExactlyOnce, _) => return self.fail(now, "the broker sent a QoS 2 message unasked".into()),
            _ => {}
        }
        self.events.push_back(Event::Message(publish));
    }

    fn answer(&mut self, packet_id: PacketId, expected: Pending, reasons: Vec<ReasonCode>, words: Option<ByteString>) {
        // An answer to nothing, or to another kind of request, is ignored: it can't harm.
        if self.in_flight.get(packet_id) == Some(&expected) {
            self.in_flight.remove(packet_id);
            self.events.push_back(Event::Answered { packet_id, reasons, words });
        }
    }

    /// The bytes that arrived are not a packet.
    pub fn handle_decode_error(&mut self, now: Time, error: &DecodeError) {
        self.fail(now, format!("what the broker sent is not MQTT {}: {error}", self.version));
    }

    /// A time that [`ClientSession::poll_timeout`] named has come.
    pub fn handle_timeout(&mut self, now: Time) {
        if self.poll_timeout().is_none_or(|due| now < due) {
            return;
        }
        if self.ping_sent.is_some() {
            return self.close("the broker no longer answers".into());
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
        if self.phase != Phase::Closed {
            self.phase = Phase::Closed;
            self.in_flight.drain().for_each(drop);
            self.events.push_back(Event::Closed { words });
        }
    }

    fn send(&mut self, now: Time, packet: &Packet) -> Result<(), EncodeError> {
        self.last_sent = now;
        self.outgoing.put_packet(packet, self.version)
    }
}
