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

mod pull;
mod push;

use std::{
    collections::{HashMap, HashSet, VecDeque},
    sync::Arc,
    time::Duration,
};

use bytes::{Buf, Bytes};
use bytestring::ByteString;
use foldhash::fast::RandomState;
use moorfall_wire::{
    Acknowledgement, Packet, PacketId, PacketType, ProtocolVersion, Publish, QoS, ReasonCode, TopicName,
};

use super::{Direction, Mapped, Memory, NotCarried, RemoteTerms};
use crate::{
    NameKey, Outgoing, Part, Time,
    aliases::{InboundAliases, OutboundAliases},
    blueprint::{Bridge, BridgeMapping, Rate},
    bucket::Bucket,
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
#[derive(Clone, Debug)]
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
    /// Messages at QoS 0 that follow each other were pushed. None has passed a link before, nor is its journey recorded.
    PushedRun {
        /// By which mapping.
        mapping: usize,
        /// What their topic is called now.
        to: TopicName,
        /// What.
        part: Part,
        /// Whether their way before is not known, because a client of 3.1.1 brought them.
        untold: bool,
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

    /// Which mapping takes a topic, the first that does, and what it makes of the name.
    fn mapped(
        &mut self,
        direction: Direction,
        topic: &TopicName,
    ) -> Result<(usize, TopicName), (Option<usize>, NotCarried)> {
        let place = usize::from(direction == Direction::Pull);
        let known = self.mapped[place].take().filter(|(known, _)| known == topic);
        let (_, taken) =
            self.mapped[place].insert(known.unwrap_or_else(|| (topic.detached(), self.bridge.taken(direction, topic))));
        match taken.clone() {
            None | Some((_, Mapped::NotTaken)) => Err((None, NotCarried::NotCovered)),
            Some((place, Mapped::Nameless)) => Err((Some(place), NotCarried::Nameless)),
            Some((place, Mapped::To(topic))) => Ok((place, topic)),
        }
    }

    /// What the first mapping that takes a topic makes of a message's name, if it takes this message.
    fn taken(
        &mut self,
        direction: Direction,
        publish: &Publish,
        now: Time,
    ) -> Result<(usize, TopicName), (Option<usize>, NotCarried)> {
        let (place, to) = self.mapped(direction, &publish.topic)?;
        let bridge = Arc::clone(&self.bridge);
        let mapping: &BridgeMapping = &bridge.mappings(direction)[place];
        let not = |why| Err((Some(place), why));
        if publish.retain && publish.payload.is_empty() && !mapping.clearing {
            return not(NotCarried::Clearing);
        }
        let holds = |condition: &std::sync::Arc<crate::Condition>| {
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
}
