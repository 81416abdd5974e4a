//! What passes between two brokers while a link is up, as a state machine over packets.
//!
//! # How nothing is lost and nothing comes twice
//!
//! A bridge keeps no message. Here it is two clients of this broker: one whose session receives what is pushed, and one
//! whose session publishes what is pulled. There it is one client. The relay carries packets from one to the other
//! *with their packet identifiers*, and each acknowledgement back:
//!
//! ```text
//! session here ── PUBLISH 7 ──▶ relay ── PUBLISH 7, by its new name ──▶ remote
//!              ◀─ PUBREC 7 ───        ◀─ PUBREC 7 ───────────────────
//!              ── PUBREL 7 ──▶        ── PUBREL 7 ──────────────────▶
//!              ◀─ PUBCOMP 7 ──        ◀─ PUBCOMP 7 ──────────────────
//! ```
//!
//! So the session here, which is on disk, is the sender that the remote's session knows, and the remote's session is the
//! sender that the session here knows. Whatever is killed, each goes on where the handshake stood (§4.3.3, §4.4). What is
//! not carried on is acknowledged to where it came from, and told.
//!
//! Where the remote's session can't be in line with ours, because the link went to another broker meanwhile, the
//! remote may still hold identifiers that are free here, and would take a new message for an old one. Each identifier is
//! then released there before it is used for the first time.
//!
//! # The contract
//!
//! The caller connects the three clients; [`Relay::new`] takes what the remote's CONNACK said. Inputs are
//! [`Relay::push`] with the messages of the first, which its session hands over, [`Relay::handle_push`],
//! [`Relay::handle_pull`] and [`Relay::handle_remote`] with the packets of each, as long as [`Relay::wants`] says so, and
//! [`Relay::ping`]. Outputs are the bytes of [`Relay::outgoing`] of each, to be written after every input, and
//! [`Relay::poll_happened`] until it gives `None`.

use std::{
    collections::{HashMap, HashSet, VecDeque},
    sync::Arc,
    time::Duration,
};

use bytes::{Buf, Bytes};
use bytestring::ByteString;
use foldhash::fast::RandomState;
use moorfall_wire::{
    Acknowledgement, AcknowledgementProperties, Packet, PacketId, PacketType, ProtocolVersion, Publish, PublishHead,
    PublishProperties, QoS, ReasonCode, TopicName,
};
use smallvec::SmallVec;

use super::{Direction, Mapped, Memory, NotCarried, Passed, RemoteTerms};
use crate::{
    NameKey, Outgoing, Time,
    aliases::{InboundAliases, OutboundAliases, Written},
    blueprint::{Bridge, BridgeMapping, Rate},
    bucket::Bucket,
    session::Handed,
};

/// Bytes that may wait for an end before nothing more is read that goes there.
const WRITE_AHEAD: usize = 64 * 1024;

/// Bytes of acknowledgements that may wait for the remote before nothing is read from it any more.
const MOST_AHEAD: usize = 4 * 1024 * 1024;

/// What was sent on a link of 3.1.1 and may come back: so many messages, for such a time.
const ECHOES: (usize, Duration) = (10_000, Duration::from_secs(60));

/// How long no retained message comes before those of new subscriptions there are taken to be all here, and how long
/// they may come at most: later ones are new.
const RETAINED_REST: (Duration, Duration) = (Duration::from_secs(1), Duration::from_secs(60));

/// Topic aliases that the remote may use.
pub const ALIASES: u16 = 32;

/// One of the three clients.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum End {
    /// The client here that receives what is pushed.
    Push,
    /// The client here that publishes what is pulled.
    Pull,
    /// The client there.
    Remote,
}

/// Something that happened to a message.
#[derive(Clone, Debug, PartialEq, Eq)]
#[must_use]
pub enum Happened {
    /// It was carried on.
    Carried {
        /// Which way.
        direction: Direction,
        /// By which mapping of that way.
        mapping: usize,
        /// What it is called now.
        to: TopicName,
        /// Its payload.
        payload: Bytes,
        /// Whether its way before is not known, because a client of 3.1.1 brought it.
        untold: bool,
        /// Whether it is the first link that it passes, as far as is known.
        is_first: bool,
        /// The number under which its journey is recorded here; 0 if it is not.
        journey: u64,
    },
    /// The other side has it.
    Acknowledged {
        /// Which way.
        direction: Direction,
        /// By which mapping of that way.
        mapping: usize,
        /// Since it was carried on.
        took: Duration,
    },
    /// It was not carried on.
    NotCarried {
        /// Which way.
        direction: Direction,
        /// By which mapping of that way; none took it if absent.
        mapping: Option<usize>,
        /// What it is called where it came from.
        topic: TopicName,
        /// Why.
        why: NotCarried,
        /// What the other side said, if it refused.
        said: Option<Said>,
        /// The number under which its journey is recorded here; 0 if it is not.
        journey: u64,
    },
    /// The remote answered a ping.
    Pong(Duration),
    /// The remote did something that the protocol does not allow, or said goodbye; nothing follows.
    Over(Over),
}

/// Why a link is over, seen from inside.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Over {
    /// The remote said DISCONNECT.
    Goodbye(Said),
    /// It sent a packet that is not allowed.
    NotAllowed(PacketType),
    /// It used a topic alias that was not given.
    Alias,
    /// It did not answer a ping.
    Silent,
}

/// A reason code and the words behind it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Said {
    /// For a program.
    pub reason: ReasonCode,
    /// For a person, if there were any.
    pub words: Option<ByteString>,
}

impl From<&Acknowledgement> for Said {
    fn from(ack: &Acknowledgement) -> Self {
        Self { reason: ack.reason, words: ack.properties.reason_string.clone() }
    }
}

/// A message that was carried on and is not acknowledged.
#[derive(Debug)]
struct Carried {
    mapping: usize,
    topic: TopicName,
    journey: u64,
    /// On the side that it came from, and on the one that it went to.
    qos: (QoS, QoS),
    at: Time,
}

/// Names by which brokers and the link between them are known to others.
#[derive(Clone, Debug)]
pub struct Names {
    /// This broker.
    pub broker: Box<str>,
    /// The link.
    pub link: Box<str>,
    /// The remote, if it has said its name.
    pub remote: Option<Box<str>>,
    /// Makes names of messages.
    pub key: Arc<NameKey>,
}

/// How a link begins.
#[derive(Clone, Copy, Debug)]
pub struct Beginning {
    /// Whether the remote's session is the one that our session here was connected with last.
    pub in_line: bool,
    /// Retained messages that new subscriptions here will bring.
    pub retained_here: usize,
    /// Whether subscriptions there may be new, so that retained messages come.
    pub retained_there: bool,
    /// Now.
    pub at: Time,
}

/// By which mapping a topic is taken, and what it becomes; absent if by none.
type Taken = Option<(usize, Mapped)>;

/// Carries packets between the three clients of a bridge. See the module's contract.
#[derive(Debug)]
pub struct Relay {
    bridge: Arc<Bridge>,
    names: Names,
    terms: RemoteTerms,
    /// Gives identifiers to messages that have none.
    next_id: Box<dyn NextId>,
    to_push: Outgoing,
    to_pull: Outgoing,
    to_remote: Outgoing,
    happened: VecDeque<Happened>,
    inbound: InboundAliases,
    outbound: OutboundAliases,
    /// By the identifier that both sides know it by.
    pushed: HashMap<PacketId, Carried, RandomState>,
    pulled: HashMap<PacketId, Carried, RandomState>,
    /// Released by us alone: the side that it came from has still to say PUBREL.
    settled: HashSet<PacketId, RandomState>,
    /// Identifiers that the remote may hold from another time.
    stale: Option<HashSet<PacketId, RandomState>>,
    /// Released there because they may be stale; PUBCOMP is nobody's.
    releasing: HashSet<PacketId, RandomState>,
    /// What became of the last topic of each direction: the next message is often of the same.
    mapped: [Option<(TopicName, Taken)>; 2],
    buckets: HashMap<(Direction, usize), Bucket, RandomState>,
    echoes: Memory,
    retained: RetainedFlow,
    pinged: Option<Time>,
}

/// Gives identifiers that nobody can guess.
pub trait NextId: std::fmt::Debug + Send {
    /// The next one.
    fn next_id(&mut self) -> ByteString;
}

/// Retained messages of new subscriptions, which come all at once.
#[derive(Debug)]
struct RetainedFlow {
    /// How many are still to come from here.
    pushing: usize,
    /// Since when they come from there, and when the last one came; absent when they are all here.
    pulling: Option<(Time, Time)>,
    rate: Rate,
    bucket: Bucket,
}

impl RetainedFlow {
    /// A message has come.
    fn note(&mut self, direction: Direction, retained: bool, now: Time) {
        match (direction, &mut self.pulling) {
            (Direction::Push, _) if retained && self.pushing > 0 => self.pushing -= 1,
            (Direction::Pull, Some((since, last))) => {
                if now - *last > RETAINED_REST.0 || now - *since > RETAINED_REST.1 {
                    self.pulling = None;
                    return;
                }
                if !retained {
                    return;
                }
                *last = now;
            }
            _ => return,
        }
        self.bucket.spend(self.rate, now);
    }

    /// Whether what comes from there now may have come before.
    fn is_pulling(&self) -> bool {
        self.pulling.is_some()
    }

    /// Whether nothing is to be read from an end.
    fn waits(&mut self, end: End, now: Time) -> bool {
        let flows = match end {
            End::Push => self.pushing > 0,
            End::Remote => self.pulling.is_some(),
            End::Pull => false,
        };
        flows && !self.bucket.has(self.rate, now)
    }
}

impl Relay {
    /// What passes from now on.
    pub fn new(
        bridge: Arc<Bridge>,
        names: Names,
        terms: RemoteTerms,
        beginning: Beginning,
        next_id: Box<dyn NextId>,
    ) -> Self {
        let Beginning { in_line, retained_here, retained_there, at } = beginning;
        let rate = Rate { messages: bridge.retained_rate, every: Duration::from_secs(1) };
        Self {
            names,
            terms,
            next_id,
            to_push: Outgoing::default(),
            to_pull: Outgoing::default(),
            to_remote: Outgoing::default(),
            happened: VecDeque::new(),
            inbound: InboundAliases::new(if terms.version == ProtocolVersion::V5 { ALIASES } else { 0 }),
            outbound: OutboundAliases::new(terms.topic_aliases),
            pushed: HashMap::default(),
            pulled: HashMap::default(),
            settled: HashSet::default(),
            stale: (terms.session_present && !in_line).then(HashSet::default),
            releasing: HashSet::default(),
            mapped: [None, None],
            buckets: HashMap::default(),
            echoes: Memory::new(ECHOES.0, ECHOES.1),
            retained: RetainedFlow {
                pushing: retained_here,
                pulling: retained_there.then_some((at, at)),
                rate,
                bucket: Bucket::full(rate, at),
            },
            pinged: None,
            bridge,
        }
    }

    /// Whether packets of this end are to be handed in now.
    pub fn wants(&mut self, end: End, now: Time) -> bool {
        let has_room = match end {
            End::Push => self.to_remote.remaining() < WRITE_AHEAD && self.to_push.remaining() < WRITE_AHEAD,
            End::Pull => self.to_remote.remaining() < MOST_AHEAD,
            End::Remote => self.to_pull.remaining() < WRITE_AHEAD && self.to_remote.remaining() < MOST_AHEAD,
        };
        has_room && !self.retained.waits(end, now)
    }

    /// Whether it waits for time to pass before it wants more of an end.
    pub fn waits_for_time(&mut self, now: Time) -> bool {
        self.retained.waits(End::Push, now) || self.retained.waits(End::Remote, now)
    }

    /// Bytes for an end.
    pub fn outgoing(&mut self, end: End) -> &mut Outgoing {
        match end {
            End::Push => &mut self.to_push,
            End::Pull => &mut self.to_pull,
            End::Remote => &mut self.to_remote,
        }
    }

    /// What has happened.
    pub fn poll_happened(&mut self) -> Option<Happened> {
        self.happened.pop_front()
    }

    /// Messages that were carried on and are not acknowledged, each way.
    pub fn in_flight(&self) -> (usize, usize) {
        (self.pushed.len(), self.pulled.len())
    }

    /// Asks the remote whether it is there. A ping that was not answered until the next one is due ends the link.
    pub fn ping(&mut self, now: Time) {
        if self.pinged.replace(now).is_some() {
            return self.happened.push_back(Happened::Over(Over::Silent));
        }
        self.send(End::Remote, &Packet::PingReq);
    }

    /// Says goodbye to the remote; the link is to be closed once the bytes are written.
    pub fn say_goodbye(&mut self) {
        self.send(End::Remote, &Packet::Disconnect(moorfall_wire::Disconnect::normal()));
    }

    fn send(&mut self, end: End, packet: &Packet) {
        let version = if end == End::Remote { self.terms.version } else { ProtocolVersion::V5 };
        let encodes = "acknowledgements have properties only where the version has them";
        self.outgoing(end).put_packet(packet, version).expect(encodes);
    }

    fn not_carried(
        &mut self,
        direction: Direction,
        mapping: Option<usize>,
        (topic, journey): (TopicName, u64),
        why: NotCarried,
    ) {
        self.happened.push_back(Happened::NotCarried { direction, mapping, topic, why, said: None, journey });
    }

    fn within_rate(&mut self, direction: Direction, mapping: usize, rate: Option<Rate>, now: Time) -> bool {
        let Some(rate) = rate else { return true };
        let full = || Bucket::full(rate, now);
        self.buckets.entry((direction, mapping)).or_insert_with(full).take(rate, now)
    }

    /// What the first mapping that takes a topic makes of a message's name, if it takes this message.
    fn taken(
        &mut self,
        direction: Direction,
        publish: &Publish,
        now: Time,
    ) -> Result<(usize, TopicName), (Option<usize>, NotCarried)> {
        let bridge = Arc::clone(&self.bridge);
        let place = usize::from(direction == Direction::Pull);
        let known = self.mapped[place].take().filter(|(topic, _)| *topic == publish.topic);
        let (_, taken) = self.mapped[place].insert(known.unwrap_or_else(|| {
            let taken = bridge.taken(direction, &publish.topic);
            (publish.topic.detached(), taken)
        }));
        let (place, to) = match taken.clone() {
            None | Some((_, Mapped::NotTaken)) => return Err((None, NotCarried::NotCovered)),
            Some((place, Mapped::Nameless)) => return Err((Some(place), NotCarried::Nameless)),
            Some((place, Mapped::To(topic))) => (place, topic),
        };
        let mapping: &BridgeMapping = &bridge.mappings(direction)[place];
        let not = |why| Err((Some(place), why));
        if publish.retain && publish.payload.is_empty() && !mapping.clearing {
            return not(NotCarried::Clearing);
        }
        let holds = |condition: &crate::MessageExpression| {
            condition.holds(&publish.topic, &publish.payload, publish.qos.level(), publish.retain)
        };
        if !mapping.condition.as_ref().is_none_or(holds) {
            return not(NotCarried::Condition);
        }
        // What comes again was within the rate when it came first, or may be: both sides have to stay in line.
        if !publish.duplicate && !self.within_rate(direction, place, mapping.rate, now) {
            return not(NotCarried::Rate);
        }
        Ok((place, to))
    }

    /// A packet of the session here that receives what is pushed; its messages are handed over.
    pub fn handle_push(&mut self, packet: &Packet) {
        // It answers our pings and requests, which are the caller's.
        if let Packet::PubRel(ack) = packet {
            self.handle_push_release(ack.packet_id);
        }
    }

    /// A message that the session here has handed over.
    pub fn push(&mut self, handed: &Handed, now: Time) {
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
        handed: &Handed,
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

    /// A packet of the remote. `is_retained` says whether this is the retained message of this topic here.
    pub fn handle_remote(&mut self, packet: Packet, now: Time, is_retained: impl Fn(&TopicName, &Bytes) -> bool) {
        match packet {
            Packet::Publish(publish) => self.pull(publish, now, is_retained),
            Packet::PubAck(ack) => self.handle_push_ack(&ack, now),
            Packet::PubRec(ack) => self.handle_push_received(&ack, now),
            Packet::PubRel(ack) => {
                // What was never carried on is unknown here, and that is answered, too: PUBCOMP goes back.
                self.send(End::Pull, &Packet::PubRel(Acknowledgement::success(ack.packet_id)));
            }
            Packet::PubComp(ack) => {
                if !self.releasing.remove(&ack.packet_id) {
                    self.done_push(ack.packet_id, now);
                    self.send(End::Push, &Packet::PubComp(Acknowledgement::success(ack.packet_id)));
                }
            }
            Packet::PingResp => {
                if let Some(at) = self.pinged.take() {
                    self.happened.push_back(Happened::Pong(now - at));
                }
            }
            Packet::Disconnect(disconnect) => {
                let said = Said { reason: disconnect.reason, words: disconnect.properties.reason_string };
                self.happened.push_back(Happened::Over(Over::Goodbye(said)));
            }
            // The caller's.
            Packet::SubAck(_) | Packet::UnsubAck(_) => {}
            other => self.happened.push_back(Happened::Over(Over::NotAllowed(other.packet_type()))),
        }
    }

    fn pull(&mut self, mut publish: Publish, now: Time, is_retained: impl Fn(&TopicName, &Bytes) -> bool) {
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

    /// The remote has a QoS 1 message, or has refused it.
    fn handle_push_ack(&mut self, ack: &Acknowledgement, now: Time) {
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
    fn handle_push_received(&mut self, ack: &Acknowledgement, now: Time) {
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

    fn done_push(&mut self, id: PacketId, now: Time) {
        if let Some(Carried { mapping, at, .. }) = self.pushed.remove(&id) {
            self.happened.push_back(Happened::Acknowledged { direction: Direction::Push, mapping, took: now - at });
        }
    }
}
