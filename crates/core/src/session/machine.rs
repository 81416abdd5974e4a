//! One session: its phases, and what moves it from one to the next.

use std::{
    collections::{HashSet, VecDeque},
    fmt::Display,
    sync::Arc,
    time::Duration,
};

use bytes::{Buf, BytesMut};
use bytestring::ByteString;
use foldhash::fast::RandomState;
use moorfall_wire::{
    Acknowledgement, ConnAckProperties, Connect, DecodeError, Disconnect, DisconnectProperties, Frame, MAX_PACKET_SIZE,
    Packet, PacketId, PacketType, ProtocolVersion, ReasonCode, TopicFilter, Will,
};

use super::{
    action::{Action, Keep},
    checks::will_message,
    ended::{Ended, Violation},
    handed::{Handed, Handing},
    not_accepted::NotAccepted,
    permissions::Permissions,
    refusal::{Patience, Reason, Refusal},
    state::{DelayedWill, Parting, SessionState},
    subscribing::Subscribing,
    terms::Terms,
};
use crate::{
    Granted, Holding, Limits, Outgoing, SessionKey, Time,
    access::{Access, Request},
    aliases::{InboundAliases, OutboundAliases},
    in_flight::Quota,
};

/// Bytes after which a packet that is none of CONNECT's has shown it.
const CONNECT_HEAD: usize = 16;

/// The longest reason string, bytes.
const REASON_STRING: usize = 1_024;

/// The broker's side of one connection. See the module's contract.
#[derive(Debug)]
pub struct Session {
    pub(super) limits: Arc<Limits>,
    pub(super) version: ProtocolVersion,
    pub(super) phase: Phase,
    pub(super) began: Time,
    /// The largest packet that the client takes, bytes.
    pub(super) client_packet_size: usize,
    /// Whether the client wants reason strings with failures.
    pub(super) problem_information: bool,
    /// By which other brokers know this one; told to clients that say that they are a bridge.
    pub(super) broker_name: Arc<str>,
    /// Present if messages are handed on instead of being written.
    pub(super) handing: Option<Box<Handing>>,
    pub(super) outgoing: Outgoing,
    pub(super) actions: VecDeque<Action>,
}

#[derive(Debug)]
pub(super) enum Phase {
    /// Nothing has been received. The spare identifier is for a client that gives none.
    Waiting { spare_id: ByteString },
    /// CONNECT was received; the service finds out who it is.
    Checking { connect: Box<Connect>, assigned_id: Option<ByteString> },
    /// It may come in; an earlier connection of the same client is being ended. The properties go into CONNACK.
    Admitting { terms: Box<Terms>, connack: Box<ConnAckProperties> },
    /// CONNACK was sent.
    Open(Box<Open>),
    /// Nothing more is sent or accepted.
    Closed(Option<Box<Parting>>),
}

impl Phase {
    /// The state of an accepted client, if there is one.
    pub(super) fn open(&self) -> Option<&Open> {
        if let Self::Open(open) = self { Some(open) } else { None }
    }

    /// The same, to be changed.
    pub(super) fn open_mut(&mut self) -> Option<&mut Open> {
        if let Self::Open(open) = self { Some(open) } else { None }
    }

    /// The state of the client whose packet is handled, which is done only while it is accepted.
    pub(super) fn opened(&self) -> &Open {
        self.open().expect("packets are handled only while open")
    }

    /// The same, to be changed.
    pub(super) fn opened_mut(&mut self) -> &mut Open {
        self.open_mut().expect("packets are handled only while open")
    }
}

/// State of an accepted client.
#[derive(Debug)]
pub(super) struct Open {
    pub(super) key: SessionKey,
    pub(super) access: Access,
    pub(super) permissions: Permissions,
    /// Whether what waits for the client was perhaps queued under other rules: the session was there before, or the
    /// rules have changed.
    pub(super) rights_may_be_lost: bool,
    pub(super) keep_alive: Option<Duration>,
    pub(super) last_heard: Time,
    pub(super) will: Option<Box<Will>>,
    /// Seconds that the session outlives the connection.
    pub(super) expiry: u32,
    pub(super) state: SessionState,
    /// What the client still takes at QoS 1 and 2.
    pub(super) quota: Quota,
    /// Sent on an earlier connection and not yet again on this one.
    pub(super) resend: VecDeque<PacketId>,
    /// Whether it is not sent yet, because it rests on what is still being written.
    pub(super) resends_when_safe: bool,
    /// QoS 1 and 2 messages of the client that are not acknowledged to the end.
    pub(super) unacknowledged: HashSet<PacketId, RandomState>,
    /// Routed messages whose answer has not come.
    pub(super) unanswered: usize,
    pub(super) inbound_aliases: InboundAliases,
    pub(super) outbound_aliases: OutboundAliases,
    /// What is done when commits are answered, in order.
    pub(super) held: VecDeque<(u64, After)>,
    pub(super) next_commit: u64,
    /// A SUBSCRIBE that is gone through.
    pub(super) subscribing: Option<Box<Subscribing>>,
    /// With a client that is refused often.
    pub(super) patience: Patience,
}

/// What is done when a commit is answered.
#[derive(Debug)]
pub(super) enum After {
    /// This is sent.
    Send(Box<Packet>),
    /// The message under this identifier is sent for the first time.
    Deliver(PacketId),
    /// What an earlier connection left is sent again.
    Resend,
}

impl Session {
    /// A new connection at `now`. `spare_id` becomes the client identifier of a client that gives none.
    pub fn new(limits: Arc<Limits>, spare_id: impl Into<ByteString>, now: Time) -> Self {
        Self {
            limits,
            version: ProtocolVersion::V5,
            phase: Phase::Waiting { spare_id: spare_id.into() },
            began: now,
            client_packet_size: MAX_PACKET_SIZE,
            problem_information: true,
            broker_name: Arc::default(),
            handing: None,
            outgoing: Outgoing::default(),
            actions: VecDeque::new(),
        }
    }

    /// Says by which name other brokers know this one.
    pub fn set_broker_name(&mut self, name: Arc<str>) {
        self.broker_name = name;
    }

    /// The client is in this process: messages to it are given by [`Session::take_handed`] and not written. Everything else
    /// of the protocol is as with any client.
    pub fn hand_over(&mut self) {
        self.handing = Some(Box::default());
    }

    /// Moves the messages that were handed over since the last call to the end of `into`; gives their weight, bytes.
    pub fn take_handed(&mut self, into: &mut VecDeque<Handed>) -> usize {
        let Some(handing) = &mut self.handing else { return 0 };
        into.append(&mut handing.waiting);
        std::mem::take(&mut handing.bytes)
    }

    /// Bytes that were made and not fetched yet.
    pub(super) fn ahead(&self) -> usize {
        self.outgoing.remaining() + self.handing.as_ref().map_or(0, |handing| handing.bytes)
    }

    /// The next thing to do. A large SUBSCRIBE is gone through in slices, as its actions are taken.
    pub fn poll_action(&mut self) -> Option<Action> {
        loop {
            if let Some(action) = self.actions.pop_front() {
                return Some(action);
            }
            if !self.subscribe_on() {
                return None;
            }
        }
    }

    /// Nothing is to be done for now: memory that may not be needed soon is given back.
    pub fn rest(&mut self) {
        if self.actions.is_empty() {
            self.actions = VecDeque::new();
        }
    }

    /// What an accepted client may do.
    pub fn access(&self) -> Option<&Access> {
        self.phase.open().map(|open| &open.access)
    }

    /// The subscriptions of an accepted client.
    pub fn subscriptions(&self) -> impl Iterator<Item = (&TopicFilter, &Granted)> {
        self.phase.open().into_iter().flat_map(|open| open.state.subscriptions.iter())
    }

    /// The next thing to keep on disk, if that is the next thing to do: what many share is locked for all of them.
    pub fn poll_keep(&mut self) -> Option<Keep> {
        match self.actions.pop_front_if(|action| matches!(action, Action::Keep(_))) {
            Some(Action::Keep(keep)) => Some(keep),
            _ => None,
        }
    }

    /// Whether [`Session::poll_action`] would give something.
    pub fn has_actions(&self) -> bool {
        !self.actions.is_empty() || self.phase.open().is_some_and(|open| open.subscribing.is_some())
    }

    /// When [`Session::handle_timeout`] is due; `None` if never.
    pub fn poll_timeout(&self) -> Option<Time> {
        match &self.phase {
            Phase::Waiting { .. } => Some(self.began + self.limits.connect_time),
            // Whoever is not read from can't be heard.
            Phase::Open(open) => open.patience.held_until.or(open.keep_alive.map(|silence| open.last_heard + silence)),
            Phase::Checking { .. } | Phase::Admitting { .. } | Phase::Closed(_) => None,
        }
    }

    /// Bytes for the client.
    pub fn outgoing(&mut self) -> &mut Outgoing {
        &mut self.outgoing
    }

    /// Whether packets may be handed in now: not while the client is being accepted, not while as many of its messages
    /// wait for their answers as it may send at a time, and not for a while after it was refused too often.
    pub fn wants_packets(&self) -> bool {
        match &self.phase {
            Phase::Waiting { .. } => true,
            Phase::Open(open) => {
                open.unanswered <= usize::from(self.limits.receive_maximum)
                    && open.patience.held_until.is_none()
                    && open.subscribing.is_none()
            }
            _ => false,
        }
    }

    /// Whether the client was accepted and is still connected.
    pub fn is_open(&self) -> bool {
        matches!(self.phase, Phase::Open(_))
    }

    /// Whether the connection is over.
    pub fn is_closed(&self) -> bool {
        matches!(self.phase, Phase::Closed(_))
    }

    /// The Keep Alive that holds, seconds; 0 without one, and before the client is accepted.
    pub fn keep_alive(&self) -> u16 {
        match &self.phase {
            // It may be silent for one and a half times as long ([MQTT-3.1.2-22]).
            Phase::Open(open) => open.keep_alive.map_or(0, |silence| (silence.as_millis() / 1_500) as u16),
            _ => 0,
        }
    }

    /// The version that the client speaks, once it has said so.
    pub fn version(&self) -> ProtocolVersion {
        self.version
    }

    /// The largest packet to accept now, bytes.
    pub fn packet_limit(&self) -> usize {
        match self.phase {
            Phase::Open(_) => self.limits.packet_bytes,
            _ => self.limits.first_packet_bytes,
        }
    }

    /// Takes the next packet off the receive buffer; `None` while it has not arrived whole.
    pub fn next_packet(&self, buffer: &mut BytesMut) -> Result<Option<Packet>, DecodeError> {
        let frame = match Frame::split(buffer, self.packet_limit()) {
            Err(error @ DecodeError::TooLarge { .. }) if self.is_waiting() => {
                match Connect::peek_version(buffer) {
                    Some(version) => Err(DecodeError::Connect { version, error: Box::new(error) }),
                    // What it says of itself is worth a moment.
                    None if buffer.len() < CONNECT_HEAD => Ok(None),
                    None => Err(error),
                }
            }
            split => split,
        };
        frame?.map(|frame| Packet::decode(frame, self.version)).transpose()
    }

    /// Whether nothing was received yet.
    pub fn is_waiting(&self) -> bool {
        matches!(self.phase, Phase::Waiting { .. })
    }

    /// Turns away a client whose CONNECT, of which this has arrived, is not waited for.
    pub fn turn_away(&mut self, why: NotAccepted, arrived: &[u8]) {
        if self.is_waiting() {
            match Connect::peek_version(arrived) {
                Some(version) => {
                    self.version = version;
                    self.refuse(why);
                }
                None => self.close(self.began, Ended::NotAccepted(why), false),
            }
        }
    }

    /// Whether the session outlives its connection, as far as is known now.
    pub fn is_kept(&self) -> bool {
        self.phase.open().is_some_and(Open::is_kept)
    }

    /// The will of an accepted client, as the message that it becomes, and its delay.
    pub fn will(&self, now: Time) -> Option<DelayedWill> {
        let open = self.phase.open()?;
        let will = open.will.as_ref()?;
        let delay = Duration::from_secs(will.properties.will_delay_interval.unwrap_or(0).into());
        Some(DelayedWill { message: will_message(Will::clone(will), open.key, now), delay })
    }

    /// Subscriptions of an accepted client.
    pub fn subscription_count(&self) -> usize {
        self.phase.open().map_or(0, |open| open.state.subscriptions.len())
    }

    /// Messages sent to the client and not acknowledged.
    pub fn in_flight(&self) -> usize {
        self.phase.open().map_or(0, |open| open.state.in_flight.len())
    }

    /// After the end: what outlives the connection. `None` if the client was never accepted, and at the second call.
    pub fn part(&mut self) -> Option<Parting> {
        if let Phase::Closed(parting) = &mut self.phase { parting.take().map(|parting| *parting) } else { None }
    }

    /// What an accepted client holds counts in its identity's share. To be said right after [`Session::handle_admitted`].
    pub fn hold_for(&mut self, holding: Arc<Holding>) {
        if let Some(open) = self.phase.open_mut() {
            open.state.hold_for(holding);
        }
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
            Packet::PubAck(ack) => self.puback(now, ack.packet_id, ack.reason),
            Packet::PubRec(ack) => self.handle_pubrec(now, &ack),
            Packet::PubRel(ack) => self.handle_pubrel(&ack),
            Packet::PubComp(ack) => self.handle_pubcomp(now, &ack),
            Packet::Subscribe(subscribe) => self.handle_subscribe(now, subscribe),
            Packet::Unsubscribe(unsubscribe) => self.handle_unsubscribe(unsubscribe),
            Packet::PingReq => self.send(&Packet::PingResp),
            Packet::Disconnect(disconnect) => self.handle_disconnect(now, &disconnect),
            other => self.violated(now, Violation::Packet(other.packet_type())),
        }
    }

    /// Takes plain acknowledgements of one kind off the front of the receive buffer: the same as packets, with less to carry
    /// about. Gives how many, and of which kind.
    pub fn handle_plain_acknowledgements(&mut self, now: Time, buffer: &mut BytesMut) -> Option<(PacketType, u64)> {
        let (kind, _) = Frame::plain_acknowledgement(buffer)?;
        let mut taken = 0;
        while let Some(open) = self.phase.open_mut()
            && let Some((packet, id)) = Frame::plain_acknowledgement(&buffer[taken..])
            && packet == kind
        {
            open.last_heard = now;
            taken += Frame::PLAIN_ACKNOWLEDGEMENT;
            match packet {
                // Nobody waits for the end of what is only passing.
                PacketType::PubAck if open.resend.is_empty() && open.state.finish_passing(id) => open.quota.give_back(),
                PacketType::PubAck => self.puback(now, id, ReasonCode::Success),
                PacketType::PubRec => self.handle_pubrec(now, &Acknowledgement::success(id)),
                PacketType::PubRel => self.handle_pubrel(&Acknowledgement::success(id)),
                _ => self.handle_pubcomp(now, &Acknowledgement::success(id)),
            }
        }
        buffer.advance(taken);
        Some((kind, (taken / Frame::PLAIN_ACKNOWLEDGEMENT) as u64)).filter(|_| taken > 0)
    }

    /// The bytes that arrived are not a packet.
    pub fn handle_decode_error(&mut self, now: Time, error: &DecodeError) {
        if let (Phase::Waiting { .. }, DecodeError::ProtocolVersion { level }) = (&self.phase, error) {
            // [MQTT-3.1.2-2]: the refusal takes the form that the client is nearest to.
            self.version = if *level < 5 { ProtocolVersion::V311 } else { ProtocolVersion::V5 };
            return self.refuse(NotAccepted::Malformed(error.clone()));
        }
        if let (Phase::Waiting { .. }, DecodeError::Connect { version, error: inner }) = (&self.phase, error) {
            let is_too_large = matches!(**inner, DecodeError::TooLarge { .. });
            if is_too_large {
                self.version = *version;
            }
            if is_too_large || *version == ProtocolVersion::V5 {
                return self.refuse(NotAccepted::Malformed(error.clone()));
            }
        }
        self.violated(now, Violation::Decode(error.clone()));
    }

    /// A time that [`Session::poll_timeout`] named has come.
    pub fn handle_timeout(&mut self, now: Time) {
        if self.poll_timeout().is_none_or(|due| now < due) {
            return;
        }
        if let Some(open) = self.phase.open_mut()
            && open.patience.held_until.take().is_some()
        {
            open.last_heard = now;
            return;
        }
        match &self.phase {
            Phase::Open(open) => self.fail(now, Ended::KeepAlive(open.keep_alive.unwrap_or_default())),
            _ => self.close(now, Ended::NoConnect, true),
        }
    }

    /// The connection broke or was closed by the client without DISCONNECT.
    pub fn handle_connection_lost(&mut self, now: Time, why: Ended) {
        self.close(now, why, true);
    }

    /// The answer to [`Action::Commit`]: everything up to it is safe.
    pub fn handle_committed(&mut self, now: Time, number: u64) {
        while let Some(open) = self.phase.open_mut() {
            let Some((_, after)) = open.held.pop_front_if(|(held, _)| *held <= number) else { break };
            match after {
                After::Send(packet) => self.send(&packet),
                After::Deliver(id) => self.send_message(now, id, false),
                After::Resend => {
                    open.resends_when_safe = false;
                    self.resend(now);
                }
            }
        }
    }

    /// The broker ends the connection: taken over, shutting down, administrative action. With `discard` the session
    /// ends too, whatever its expiry.
    pub fn end(&mut self, now: Time, why: Ended, discard: bool) {
        if let Some(open) = self.phase.open_mut()
            && discard
        {
            open.expiry = 0;
        }
        self.fail(now, why);
    }

    /// [MQTT-3.14.4-3]: the will goes with a normal DISCONNECT, and only then.
    pub(super) fn handle_disconnect(&mut self, now: Time, disconnect: &Disconnect) {
        let Some(open) = self.phase.open_mut() else { return };
        if let Some(expiry) = disconnect.properties.session_expiry_interval {
            if expiry > 0 && open.expiry == 0 {
                return self.violated(now, Violation::SessionExpiry);
            }
            open.expiry = expiry.min(self.limits.session_expiry_seconds);
        }
        if disconnect.properties.server_reference.is_some() {
            return self.violated(now, Violation::ServerReference);
        }
        let normal = disconnect.reason == ReasonCode::Success;
        self.close(now, Ended::ByClient(disconnect.reason), !normal);
    }

    /// Ends the connection for a reason; a 5.0 client that was accepted is told (§4.13).
    pub(super) fn fail(&mut self, now: Time, why: Ended) {
        let reason = why.code();
        if self.is_open() && self.version == ProtocolVersion::V5 && reason.allowed_in(PacketType::Disconnect) {
            let reason_string = self.reason_string(&why);
            let properties = DisconnectProperties { reason_string, ..DisconnectProperties::default() };
            self.send(&Packet::Disconnect(Disconnect { reason, properties }));
        }
        self.close(now, why, true);
    }

    /// The client broke the protocol.
    pub(super) fn violated(&mut self, now: Time, violation: Violation) {
        self.fail(now, Ended::Violation(violation));
    }

    pub(super) fn close(&mut self, now: Time, why: Ended, publish_will: bool) {
        match std::mem::replace(&mut self.phase, Phase::Closed(None)) {
            Phase::Closed(parting) => {
                self.phase = Phase::Closed(parting);
                return;
            }
            Phase::Open(mut open) => {
                let mut delayed = None;
                if let Some(will) = open.will.take().filter(|_| publish_will) {
                    delayed = self.publish_will(now, &open, *will);
                }
                if open.is_kept() {
                    self.keep_identifiers(&open.state);
                }
                let parting = Parting { expiry: open.expiry, state: open.state, will: delayed };
                self.phase = Phase::Closed(Some(Box::new(parting)));
            }
            Phase::Waiting { .. } | Phase::Checking { .. } | Phase::Admitting { .. } => {}
        }
        self.actions.push_back(Action::Close(Box::new(why)));
    }

    /// [MQTT-3.1.2-8]. A will that waits is given back: it is published when its delay is over or the session ends,
    /// whichever comes first ([MQTT-3.1.3-9]). The right to publish is looked at again: it may have changed.
    pub(super) fn publish_will(&mut self, now: Time, open: &Open, will: Will) -> Option<DelayedWill> {
        let request = Request::Publish { topic: &will.topic, qos: will.qos, retain: will.retain };
        if !open.access.decide(request).is_allowed() {
            let message = will_message(will.clone(), open.key, now);
            let refusal = Reason::rules(&open.access, request).refusal_of_will(open.access.name(), message);
            self.actions.push_back(Action::Refused(Box::new(refusal)));
            return None;
        }
        let seconds = will.properties.will_delay_interval.unwrap_or(0).min(open.expiry);
        let message = will_message(will, open.key, now);
        if seconds > 0 {
            return Some(DelayedWill { message, delay: Duration::from_secs(seconds.into()) });
        }
        self.actions.push_back(Action::Route { message, packet_id: None });
        None
    }

    /// What is in flight keeps its identifiers ([MQTT-4.4.0-1]). Those of QoS 2 are on disk already.
    pub(super) fn keep_identifiers(&mut self, state: &SessionState) {
        for id in state.in_flight.ids() {
            if let Some(sent) = state.sent(id)
                && sent.delivery.sequence > 0
                && !sent.released
            {
                self.actions.push_back(Action::Keep(Keep::Assign(id, sent.delivery.clone())));
            }
        }
    }

    /// Notes what was refused. A client that is refused too often is not read from for a while, and in the end it goes.
    pub(super) fn refused(&mut self, now: Time, refusal: Refusal) {
        let limit = self.limits.refusals_per_second;
        let is_too_much = match &mut self.phase {
            Phase::Open(open) => open.patience.spend(refusal.count, now, limit),
            _ => false,
        };
        let last = is_too_much.then(|| Box::new(refusal.remembered()));
        self.actions.push_back(Action::Refused(Box::new(refusal)));
        if let Some(last) = last {
            self.fail(now, Ended::RefusedTooOften(limit, last));
        }
    }

    pub(super) fn keep(&mut self, keep: Keep) {
        self.actions.push_back(Action::Keep(keep));
    }

    /// Does this once everything that was asked to be kept is safe.
    pub(super) fn after_commit(&mut self, after: After) {
        let Some(open) = self.phase.open_mut() else { return };
        open.next_commit += 1;
        open.held.push_back((open.next_commit, after));
        self.actions.push_back(Action::Commit(open.next_commit));
    }

    pub(super) fn send(&mut self, packet: &Packet) {
        let encodes = "the session makes only packets that its version can say, from fields that were decoded or are \
                       short";
        if self.client_packet_size >= 2 * REASON_STRING {
            return self.outgoing.put_packet(packet, self.version).expect(encodes);
        }
        // [MQTT-3.1.2-24]: nothing larger than the client takes is sent, whatever it is.
        let mut bytes = BytesMut::new();
        packet.encode(self.version, &mut bytes).expect(encodes);
        if bytes.len() <= self.client_packet_size {
            self.outgoing.put_encoded(packet.packet_type(), &bytes);
        }
    }

    /// The reason as a Reason String, cut to what is sensible; `None` if the client takes only tiny packets
    /// ([MQTT-3.2.2-19]).
    pub(super) fn reason_string(&self, why: &dyn Display) -> Option<ByteString> {
        if self.client_packet_size < 2 * REASON_STRING {
            return None;
        }
        let words = why.to_string();
        let words = &words[..words.floor_char_boundary(REASON_STRING)];
        Some(words.replace('\0', " ").into())
    }

    /// The same for packets in which the client may decline it ([MQTT-3.1.2-29]).
    pub(super) fn problem_string(&self, why: &dyn Display) -> Option<ByteString> {
        let wanted = self.problem_information && self.version == ProtocolVersion::V5;
        wanted.then(|| self.reason_string(why)).flatten()
    }
}

impl Open {
    pub(super) fn is_kept(&self) -> bool {
        self.expiry > 0
    }
}
