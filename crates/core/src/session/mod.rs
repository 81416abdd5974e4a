//! The broker's side of one connection, as a state machine over values.
//!
//! # The contract
//!
//! Inputs, each with the time at which it happened; time never goes back:
//! [`Session::handle_packet`], [`Session::handle_decode_error`], [`Session::handle_verdict`] (the answer to
//! [`Action::Authenticate`]), [`Session::handle_admitted`] (the answer to [`Action::Admit`]),
//! [`Session::handle_routed`] (the answer to [`Action::Route`] with a packet identifier),
//! [`Session::handle_delivery`], [`Session::handle_timeout`], [`Session::handle_connection_lost`], [`Session::end`].
//!
//! Outputs, to be drained after every input: [`Session::poll_action`] until it gives `None`, each action carried out
//! in order; then the bytes of [`Session::outgoing`] are written. [`Session::poll_timeout`] says when
//! [`Session::handle_timeout`] is due. Packets are handed in only while [`Session::wants_packets`] holds; what has
//! arrived meanwhile stays in the receive buffer, so packets right behind CONNECT are served in order after it.
//!
//! ```text
//!            CONNECT               verdict: known            admitted
//! Waiting ───────────▶ Checking ───────────────▶ Admitting ───────────▶ Open
//!    │                    │                          │                    │
//!    └────────────────────┴──────── any end ─────────┴────────────────────┴──▶ Closed
//! ```
//!
//! A session lives as long as its connection: state that outlives it, and QoS 2, have their place here and are not
//! built yet. CONNACK says so to a 5.0 client.

mod connect;
mod deliver;
mod publish;
mod subscribe;

use std::{
    collections::{HashMap, HashSet, VecDeque},
    sync::Arc,
    time::Duration,
};

use bytes::Bytes;
use bytestring::ByteString;
use foldhash::fast::RandomState;
use moorfall_wire::{
    Acknowledgement, ConnAckProperties, Connect, DecodeError, Disconnect, DisconnectProperties, MAX_PACKET_SIZE,
    Packet, PacketId, PacketType, ProtocolVersion, ReasonCode, SubscriptionOptions, TopicFilter, Will,
};

pub use self::deliver::Withheld;
use crate::{
    Limits, Message, Outgoing, SessionKey, Time,
    access::{Access, Request},
    in_flight::InFlight,
};

/// The longest reason string, bytes.
const REASON_STRING: usize = 1_024;

/// What a client says of itself, for checking.
#[derive(Clone)]
pub struct Credentials {
    /// Its client identifier, or the one that it is assigned.
    pub client_id: ByteString,
    /// User name, if given.
    pub user_name: Option<ByteString>,
    /// Password, if given.
    pub password: Option<Bytes>,
}

impl std::fmt::Debug for Credentials {
    /// Leaves the password out.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Credentials")
            .field("client_id", &self.client_id)
            .field("user_name", &self.user_name)
            .finish_non_exhaustive()
    }
}

/// The answer to [`Action::Authenticate`].
#[derive(Clone, Debug)]
pub enum Verdict {
    /// It is who it says, and may do this.
    Known(Access),
    /// It is not let in, for this reason.
    Refused {
        /// For the client's program.
        reason: ReasonCode,
        /// For a person; it must tell a stranger nothing that helps.
        words: String,
    },
}

/// What the session wants done, in order.
#[derive(Debug)]
#[must_use]
pub enum Action {
    /// Find out who this is; answer with [`Session::handle_verdict`].
    Authenticate(Credentials),
    /// End an earlier connection of this client identifier and wait until it is gone; then
    /// [`Session::handle_admitted`], or [`Session::handle_not_admitted`] if that can't be.
    Admit {
        /// The client identifier.
        client_id: ByteString,
        /// Whose client it is.
        identity: Arc<str>,
    },
    /// Keep (if it is to be retained) and route this message. If there is a packet identifier answer with
    /// [`Session::handle_routed`].
    Route {
        /// The message.
        message: Arc<Message>,
        /// Present when the publisher waits for an acknowledgement.
        packet_id: Option<PacketId>,
    },
    /// Put this subscription into the index, then send the retained messages if asked.
    Subscribe {
        /// Which topics.
        filter: TopicFilter,
        /// How they are delivered; the QoS is the granted one.
        options: SubscriptionOptions,
        /// Whether retained messages are to be sent.
        send_retained: bool,
    },
    /// Take this subscription out of the index.
    Unsubscribe(TopicFilter),
    /// Something was refused, in a sentence for the record.
    Refused(String),
    /// Write what is outgoing, close the connection, and take the session's subscriptions out of the index.
    Close {
        /// Why, in a sentence for the record.
        words: String,
        /// Whether something went wrong.
        failure: bool,
    },
}

/// How an accepted message was routed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Routed {
    /// To this many sessions.
    To(usize),
    /// Not at all: it was to be retained and there is no room.
    RetainedFull,
}

/// The broker's side of one connection. See the module's contract.
#[derive(Debug)]
pub struct Session {
    key: SessionKey,
    limits: Arc<Limits>,
    version: ProtocolVersion,
    phase: Phase,
    began: Time,
    /// The largest packet that the client takes, bytes.
    client_packet_size: usize,
    /// Whether the client wants reason strings with failures.
    problem_information: bool,
    outgoing: Outgoing,
    actions: VecDeque<Action>,
}

#[derive(Debug)]
enum Phase {
    /// Nothing has been received. The spare identifier is for a client that gives none.
    Waiting { spare_id: ByteString },
    /// CONNECT was received; the service finds out who it is.
    Checking { connect: Box<Connect>, assigned_id: Option<ByteString> },
    /// It may come in; an earlier connection of the same client is being ended. The terms go into CONNACK.
    Admitting { open: Box<Open>, terms: Box<ConnAckProperties> },
    /// CONNACK was sent.
    Open(Box<Open>),
    /// Nothing more is sent or accepted.
    Closed(Subscriptions),
}

type Subscriptions = HashMap<TopicFilter, SubscriptionOptions, RandomState>;

/// State of an accepted client.
#[derive(Debug)]
struct Open {
    access: Access,
    /// Topics that the session was found to be allowed to publish to.
    allowed: HashSet<Box<str>, RandomState>,
    keep_alive: Option<Duration>,
    last_heard: Time,
    in_flight: InFlight<Arc<Message>>,
    will: Option<Will>,
    subscriptions: Subscriptions,
}

impl Session {
    /// A new connection at `now`. `spare_id` becomes the client identifier of a client that gives none.
    pub fn new(key: SessionKey, limits: Arc<Limits>, spare_id: impl Into<ByteString>, now: Time) -> Self {
        Self {
            key,
            limits,
            version: ProtocolVersion::V5,
            phase: Phase::Waiting { spare_id: spare_id.into() },
            began: now,
            client_packet_size: MAX_PACKET_SIZE,
            problem_information: true,
            outgoing: Outgoing::default(),
            actions: VecDeque::new(),
        }
    }

    /// The name of this session.
    pub fn key(&self) -> SessionKey {
        self.key
    }

    /// The next thing to do.
    pub fn poll_action(&mut self) -> Option<Action> {
        self.actions.pop_front()
    }

    /// When [`Session::handle_timeout`] is due; `None` if never.
    pub fn poll_timeout(&self) -> Option<Time> {
        match &self.phase {
            Phase::Waiting { .. } => Some(self.began + self.limits.connect_time),
            Phase::Open(open) => open.keep_alive.map(|silence| open.last_heard + silence),
            Phase::Checking { .. } | Phase::Admitting { .. } | Phase::Closed(_) => None,
        }
    }

    /// Bytes for the client.
    pub fn outgoing(&mut self) -> &mut Outgoing {
        &mut self.outgoing
    }

    /// Whether packets may be handed in now.
    pub fn wants_packets(&self) -> bool {
        matches!(self.phase, Phase::Waiting { .. } | Phase::Open(_))
    }

    /// Whether the client was accepted and is still connected.
    pub fn is_open(&self) -> bool {
        matches!(self.phase, Phase::Open(_))
    }

    /// Whether the session is over.
    pub fn is_closed(&self) -> bool {
        matches!(self.phase, Phase::Closed(_))
    }

    /// The version that the client speaks, once it has said so.
    pub fn version(&self) -> ProtocolVersion {
        self.version
    }

    /// The largest packet to accept now, bytes.
    pub fn packet_limit(&self) -> usize {
        match self.phase {
            Phase::Open(_) => self.limits.packet_size,
            _ => self.limits.connect_packet_size,
        }
    }

    /// The session's subscriptions; they stay readable after the end, for taking them out of the index.
    pub fn subscriptions(&self) -> impl Iterator<Item = (&TopicFilter, &SubscriptionOptions)> {
        let subscriptions = match &self.phase {
            Phase::Open(open) => Some(&open.subscriptions),
            Phase::Closed(subscriptions) => Some(subscriptions),
            _ => None,
        };
        subscriptions.into_iter().flatten()
    }

    /// Messages sent to the client and not acknowledged.
    pub fn in_flight(&self) -> usize {
        if let Phase::Open(open) = &self.phase { open.in_flight.len() } else { 0 }
    }

    /// A packet has arrived.
    pub fn handle_packet(&mut self, now: Time, packet: Packet) {
        match &mut self.phase {
            Phase::Open(open) => open.last_heard = now,
            Phase::Waiting { .. } => return self.handle_first_packet(now, packet),
            Phase::Checking { .. } | Phase::Admitting { .. } | Phase::Closed(_) => return,
        }
        match packet {
            Packet::Publish(publish) => self.handle_publish(now, publish),
            Packet::PubAck(ack) => self.handle_puback(&ack),
            Packet::Subscribe(subscribe) => self.handle_subscribe(now, subscribe),
            Packet::Unsubscribe(unsubscribe) => self.handle_unsubscribe(unsubscribe),
            Packet::PingReq => self.send(&Packet::PingResp),
            Packet::Disconnect(disconnect) => self.handle_disconnect(now, &disconnect),
            // [MQTT-4.3.3-…]: QoS 2 is not offered, so these name identifiers that nobody knows.
            Packet::PubRec(ack) => self.send(&Packet::PubRel(self.not_found(ack.packet_id))),
            Packet::PubRel(ack) => self.send(&Packet::PubComp(self.not_found(ack.packet_id))),
            Packet::PubComp(_) => {}
            other => {
                let words = format!("the client sent {}, which is not allowed here", other.packet_type());
                self.fail(now, ReasonCode::ProtocolError, words);
            }
        }
    }

    fn not_found(&self, packet_id: PacketId) -> Acknowledgement {
        let mut ack = Acknowledgement::success(packet_id);
        if self.version == ProtocolVersion::V5 {
            ack.reason = ReasonCode::PacketIdentifierNotFound;
        }
        ack
    }

    /// The bytes that arrived are not a packet.
    pub fn handle_decode_error(&mut self, now: Time, error: &DecodeError) {
        if let (Phase::Waiting { .. }, DecodeError::ProtocolVersion { level }) = (&self.phase, error) {
            // [MQTT-3.1.2-2]: the refusal takes the form that the client is nearest to.
            self.version = if *level < 5 { ProtocolVersion::V311 } else { ProtocolVersion::V5 };
            return self.refuse(ReasonCode::UnsupportedProtocolVersion, error.to_string());
        }
        self.fail(now, error.reason_code(), format!("the client sent what is not a packet: {error}"));
    }

    /// A time that [`Session::poll_timeout`] named has come.
    pub fn handle_timeout(&mut self, now: Time) {
        if self.poll_timeout().is_none_or(|due| now < due) {
            return;
        }
        match &self.phase {
            // [MQTT-3.1.2-22].
            Phase::Open(open) => {
                let silence = open.keep_alive.unwrap_or_default().as_secs_f32();
                let words = format!("nothing was heard for {silence} s, one and a half times the keep alive");
                self.fail(now, ReasonCode::KeepAliveTimeout, words);
            }
            _ => self.close(now, "no CONNECT arrived in time".into(), true, true),
        }
    }

    /// The connection broke or was closed by the client without DISCONNECT.
    pub fn handle_connection_lost(&mut self, now: Time, words: String) {
        self.close(now, words, true, true);
    }

    /// The broker ends the session: taken over, shutting down, administrative action.
    pub fn end(&mut self, now: Time, reason: ReasonCode, words: String) {
        self.fail(now, reason, words);
    }

    /// [MQTT-3.14.4-3]: the will goes with a normal DISCONNECT, and only then.
    fn handle_disconnect(&mut self, now: Time, disconnect: &Disconnect) {
        let normal = disconnect.reason == ReasonCode::Success;
        let words = match disconnect.reason {
            ReasonCode::Success => "the client said goodbye".into(),
            reason => format!("the client disconnected: {reason}"),
        };
        self.close(now, words, !normal, disconnect.reason.is_error());
    }

    /// Ends the session for a reason; a 5.0 client that was accepted is told (§4.13).
    fn fail(&mut self, now: Time, reason: ReasonCode, words: String) {
        if self.is_open() && self.version == ProtocolVersion::V5 && reason.allowed_in(PacketType::Disconnect) {
            let reason_string = self.reason_string(&words);
            let properties = DisconnectProperties { reason_string, ..DisconnectProperties::default() };
            self.send(&Packet::Disconnect(Disconnect { reason, properties }));
        }
        self.close(now, words, true, true);
    }

    fn close(&mut self, now: Time, words: String, publish_will: bool, failure: bool) {
        let phase = std::mem::replace(&mut self.phase, Phase::Closed(Subscriptions::default()));
        match phase {
            Phase::Closed(subscriptions) => {
                self.phase = Phase::Closed(subscriptions);
                return;
            }
            Phase::Open(mut open) => {
                if let Some(will) = open.will.take().filter(|_| publish_will) {
                    self.publish_will(now, &open.access, will);
                }
                self.phase = Phase::Closed(open.subscriptions);
            }
            Phase::Waiting { .. } | Phase::Checking { .. } | Phase::Admitting { .. } => {}
        }
        self.actions.push_back(Action::Close { words, failure });
    }

    /// [MQTT-3.1.2-8]. The right to publish is looked at again: it may have changed since CONNECT.
    fn publish_will(&mut self, now: Time, access: &Access, will: Will) {
        let request = Request::Publish(&will.topic);
        if !access.decide(request, |_, _| {}).is_allowed() {
            self.actions.push_back(Action::Refused(format!("the will: {}", access.explain(request))));
            return;
        }
        let properties = publish::will_properties(will.properties);
        let message = Message::new(will.topic, will.payload, will.qos, will.retain, properties, self.key, now);
        self.actions.push_back(Action::Route { message: Arc::new(message), packet_id: None });
    }

    fn send(&mut self, packet: &Packet) {
        self.outgoing.put_packet(packet, self.version).expect(
            "the session makes only packets that its version can say, from fields that were decoded or are short",
        );
    }

    /// The words as a reason string, cut to what is sensible; `None` if the client takes only tiny packets
    /// ([MQTT-3.2.2-19]).
    fn reason_string(&self, words: &str) -> Option<ByteString> {
        if self.client_packet_size < 2 * REASON_STRING {
            return None;
        }
        let words = &words[..words.floor_char_boundary(REASON_STRING)];
        Some(words.replace('\0', " ").into())
    }

    /// The same for packets in which the client may decline it ([MQTT-3.1.2-29]).
    fn problem_string(&self, words: &str) -> Option<ByteString> {
        self.reason_string(words).filter(|_| self.problem_information && self.version == ProtocolVersion::V5)
    }
}
