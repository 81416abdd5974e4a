//! A broker without sockets: sessions, a router and clients, joined by byte buffers and driven by one fake clock.

use std::{collections::VecDeque, sync::Arc, time::Duration};

use bytes::{Buf, BytesMut};
use moorfall_core::{
    Delivery, Identity, Limits, Outbox, Run, SessionKey, Time,
    access::{Access, Policy},
    blueprint::Blueprint,
    client::{ClientSession, ClientState, Event},
    router::{Load, Recipient, Router},
    session::{Action, Keep, NEVER, Parting, Routed, Session, SessionState, Verdict, Withheld},
};
use moorfall_wire::*;

/// The broker, its sessions and its peers.
pub(crate) struct World {
    now: Time,
    limits: Arc<Limits>,
    policy: Option<Arc<Policy>>,
    /// Leads to places in `slots`.
    router: Router<usize>,
    slots: Vec<Slot>,
    peers: Vec<Peer>,
    /// Messages of one peer on one topic at one QoS that nothing is kept of, and that were not handed on yet.
    run: Vec<Arc<moorfall_core::Message>>,
    /// While set, what is to be kept is not safe yet.
    commits_held: bool,
    /// What was asked to be kept.
    pub(crate) kept: Vec<Keep>,
}

/// One session. Its key is its place.
struct Slot {
    client_id: String,
    outbox: Outbox,
    peer: Option<usize>,
    /// Present while the client is away.
    parked: Option<Parked>,
    over: bool,
}

struct Parked {
    state: SessionState,
    ends: Option<Time>,
    will: Option<(Time, Arc<moorfall_core::Message>)>,
}

/// Answers that wait for what they promise.
enum Answer {
    Routed(QoS, PacketId, Routed),
    Committed(u64),
}

struct Peer {
    slot: Option<usize>,
    session: Session,
    /// Absent for a peer that the test plays by bytes.
    client: Option<ClientSession>,
    answers: VecDeque<Answer>,
    to_broker: BytesMut,
    to_client: BytesMut,
    raw: Vec<u8>,
    muted: bool,
    closing: bool,
    events: Vec<Event>,
    refusals: Vec<String>,
    withheld: Vec<Withheld>,
    ending: String,
}

/// Messages taken from a queue at a time, and bytes that may wait to be written: few, so that messages that were
/// handed on together are also torn apart.
const TAKEN: usize = 3;
const AHEAD: usize = 150;

impl Default for World {
    fn default() -> Self {
        Self::with_limits(Limits::default())
    }
}

/// A plain CONNECT.
pub(crate) fn connect(client_id: &str, version: ProtocolVersion) -> Connect {
    Connect::new(version, client_id)
}

/// A plain PUBLISH; the client fills in the packet identifier.
pub(crate) fn publish(topic: &str, payload: &[u8], qos: QoS) -> Publish {
    Publish::new(topic.parse().unwrap(), payload.to_vec(), qos)
}

/// Appends a SUBSCRIBE.
pub(crate) fn message(bytes: &mut BytesMut, version: ProtocolVersion, filter: &str) {
    let subscriptions = vec![Subscription { filter: filter.parse().unwrap(), options: SubscriptionOptions::default() }];
    let subscribe = Subscribe { packet_id: PacketId::MIN, properties: SubscribeProperties::default(), subscriptions };
    Packet::Subscribe(subscribe).encode(version, bytes).unwrap();
}

/// The messages among the events.
pub(crate) fn messages(events: &[Event]) -> Vec<Publish> {
    events
        .iter()
        .filter_map(|event| if let Event::Message(message) = event { Some(message.clone()) } else { None })
        .collect()
}

/// The reason codes of all answers among the events.
pub(crate) fn reasons(events: &[Event]) -> Vec<ReasonCode> {
    events
        .iter()
        .filter_map(|event| if let Event::Answered { reasons, .. } = event { Some(reasons.clone()) } else { None })
        .flatten()
        .collect()
}

/// The reason string of the first answer that has one.
pub(crate) fn words(events: &[Event]) -> String {
    events
        .iter()
        .find_map(|event| if let Event::Answered { words, .. } = event { words.clone() } else { None })
        .map_or_else(String::new, |words| words.to_string())
}

/// Why the connection was closed, as the client saw it.
pub(crate) fn closed(events: &[Event]) -> String {
    events
        .iter()
        .find_map(|event| if let Event::Closed { words, .. } = event { Some(words.clone()) } else { None })
        .unwrap_or_default()
}

impl World {
    pub(crate) fn with_limits(limits: Limits) -> Self {
        let now = Time::from_micros(1_000_000);
        Self {
            now,
            limits: Arc::new(limits),
            policy: None,
            router: Router::default(),
            slots: Vec::new(),
            peers: Vec::new(),
            run: Vec::new(),
            commits_held: false,
            kept: Vec::new(),
        }
    }

    /// A broker with rules; the identity of a client is its client identifier. Without rules all is allowed.
    pub(crate) fn with_blueprint(source: &str) -> Self {
        let policy = Arc::new(Policy::new(Blueprint::parse(source).unwrap().into()));
        Self { policy: Some(policy), ..Self::default() }
    }

    /// Other rules from now on.
    pub(crate) fn change_blueprint(&mut self, source: &str) {
        self.policy = Some(Arc::new(Policy::new(Blueprint::parse(source).unwrap().into())));
    }

    /// Connects and expects to be let in.
    pub(crate) fn open(&mut self, connect: Connect) -> usize {
        let peer = self.begin(connect);
        let events = self.events(peer);
        assert!(matches!(events[..], [Event::Connected(_)]), "{events:?}");
        peer
    }

    /// Connects, whatever comes of it.
    pub(crate) fn begin(&mut self, connect: Connect) -> usize {
        let client = ClientSession::new(connect, self.now).unwrap();
        self.add(Some(client))
    }

    /// Connects with what an earlier client had kept.
    pub(crate) fn resume(&mut self, connect: Connect, state: ClientState) -> usize {
        let client = ClientSession::resume(connect, state, self.now).unwrap();
        self.add(Some(client))
    }

    /// What the client of a peer keeps; the peer can't be used as a client any more.
    pub(crate) fn client_state(&mut self, peer: usize) -> ClientState {
        self.peers[peer].client.take().expect("a peer with a client").into_state()
    }

    /// A connection that sends nothing by itself.
    pub(crate) fn begin_silent(&mut self) -> usize {
        self.add(None)
    }

    /// A connection that sends nothing by itself after this CONNECT.
    pub(crate) fn open_raw(&mut self, connect: Connect) -> usize {
        let peer = self.begin_silent();
        let (version, mut bytes) = (connect.version, BytesMut::new());
        Packet::Connect(Box::new(connect)).encode(version, &mut bytes).unwrap();
        self.inject_bytes(peer, &bytes);
        peer
    }

    fn add(&mut self, client: Option<ClientSession>) -> usize {
        let index = self.peers.len();
        let session = Session::new(Arc::clone(&self.limits), format!("spare-{index}"), self.now);
        self.peers.push(Peer {
            slot: None,
            session,
            client,
            answers: VecDeque::new(),
            to_broker: BytesMut::new(),
            to_client: BytesMut::new(),
            raw: Vec::new(),
            muted: false,
            closing: false,
            events: Vec::new(),
            refusals: Vec::new(),
            withheld: Vec::new(),
            ending: String::new(),
        });
        self.run();
        index
    }

    /// Until [`World::commit`] nothing is safe.
    pub(crate) fn hold_commits(&mut self) {
        self.commits_held = true;
    }

    /// Everything that was asked to be kept is safe, now and from now on.
    pub(crate) fn commit(&mut self) {
        self.commits_held = false;
        self.run();
    }

    pub(crate) fn publish(&mut self, peer: usize, publish: Publish) {
        let now = self.now;
        self.client(peer).publish(now, publish).unwrap();
        self.run();
    }

    pub(crate) fn subscribe(&mut self, peer: usize, filter: &str, qos: QoS) -> Vec<Event> {
        self.subscribe_with(peer, filter, SubscriptionOptions { qos, ..SubscriptionOptions::default() })
    }

    /// Subscribes; takes the answer from the events and leaves the rest.
    pub(crate) fn subscribe_with(&mut self, peer: usize, filter: &str, options: SubscriptionOptions) -> Vec<Event> {
        let now = self.now;
        let subscriptions = vec![Subscription { filter: filter.parse().unwrap(), options }];
        self.client(peer).subscribe(now, subscriptions, None).unwrap();
        self.run();
        self.take_answers(peer)
    }

    /// Subscribes with an identifier.
    pub(crate) fn subscribe_as(&mut self, peer: usize, filter: &str, identifier: u32) {
        let now = self.now;
        let options = SubscriptionOptions { qos: QoS::ExactlyOnce, ..SubscriptionOptions::default() };
        let subscriptions = vec![Subscription { filter: filter.parse().unwrap(), options }];
        let identifier = std::num::NonZeroU32::new(identifier).map(VariableInt);
        self.client(peer).subscribe(now, subscriptions, identifier).unwrap();
        self.run();
        self.take_answers(peer);
    }

    pub(crate) fn unsubscribe(&mut self, peer: usize, filter: &str) -> Vec<Event> {
        let now = self.now;
        self.client(peer).unsubscribe(now, vec![filter.parse().unwrap()]).unwrap();
        self.run();
        self.take_answers(peer)
    }

    fn take_answers(&mut self, peer: usize) -> Vec<Event> {
        let events = self.events(peer);
        let (answers, rest) = events.into_iter().partition(|event| matches!(event, Event::Answered { .. }));
        self.peers[peer].events = rest;
        answers
    }

    pub(crate) fn disconnect(&mut self, peer: usize) {
        let now = self.now;
        self.client(peer).disconnect(now);
        self.run();
    }

    pub(crate) fn disconnect_with(&mut self, peer: usize, reason: ReasonCode, expiry: Option<u32>) {
        let now = self.now;
        let properties = DisconnectProperties { session_expiry_interval: expiry, ..DisconnectProperties::default() };
        self.client(peer).disconnect_with(now, &Disconnect { reason, properties }).unwrap();
        self.run();
    }

    pub(crate) fn break_connection(&mut self, peer: usize) {
        let lost = &mut self.peers[peer];
        lost.session.handle_connection_lost(self.now, "the connection broke".into());
        // What is on its way is lost with it.
        lost.to_broker.clear();
        lost.to_client.clear();
        self.run();
    }

    /// Sends a packet past the client's own state machine.
    pub(crate) fn inject(&mut self, peer: usize, packet: &Packet) {
        let version = self.peers[peer].session.version();
        let mut bytes = BytesMut::new();
        packet.encode(version, &mut bytes).unwrap();
        self.inject_bytes(peer, &bytes);
    }

    pub(crate) fn inject_bytes(&mut self, peer: usize, bytes: &[u8]) {
        self.peers[peer].to_broker.extend_from_slice(bytes);
        self.run();
    }

    /// The client reads and sends nothing until [`World::unmute`].
    pub(crate) fn mute(&mut self, peer: usize) {
        self.peers[peer].muted = true;
    }

    pub(crate) fn unmute(&mut self, peer: usize) {
        self.peers[peer].muted = false;
        self.run();
    }

    pub(crate) fn advance(&mut self, span: Duration) {
        self.now = self.now + span;
        for peer in &mut self.peers {
            peer.session.handle_timeout(self.now);
            if let Some(client) = &mut peer.client
                && !peer.muted
            {
                client.handle_timeout(self.now);
            }
        }
        for slot in 0..self.slots.len() {
            let Some(parked) = &mut self.slots[slot].parked else { continue };
            let ended = parked.ends.is_some_and(|at| at <= self.now);
            let will = parked.will.take_if(|(due, _)| ended || *due <= self.now);
            if let Some((_, message)) = will {
                self.route(&message);
            }
            if ended {
                self.finish(slot);
            }
        }
        self.run();
    }

    /// What the client has learnt since the last call.
    pub(crate) fn events(&mut self, peer: usize) -> Vec<Event> {
        std::mem::take(&mut self.peers[peer].events)
    }

    pub(crate) fn is_open(&self, peer: usize) -> bool {
        self.peers[peer].session.is_open()
    }

    pub(crate) fn ending(&self, peer: usize) -> &str {
        &self.peers[peer].ending
    }

    pub(crate) fn refusals(&self, peer: usize) -> &[String] {
        &self.peers[peer].refusals
    }

    pub(crate) fn withheld(&self, peer: usize) -> &[Withheld] {
        &self.peers[peer].withheld
    }

    pub(crate) fn in_flight(&self, peer: usize) -> usize {
        self.peers[peer].session.in_flight()
    }

    pub(crate) fn waiting(&self, peer: usize) -> usize {
        self.peers[peer].slot.map_or(0, |slot| self.slots[slot].outbox.len())
    }

    /// Sessions that are not over.
    pub(crate) fn session_count(&self) -> usize {
        self.slots.iter().filter(|slot| !slot.over).count()
    }

    /// Everything that the broker has sent to a peer played by bytes.
    pub(crate) fn raw(&self, peer: usize) -> &[u8] {
        &self.peers[peer].raw
    }

    /// The packets that the broker has sent to a peer played by bytes, since the last call.
    pub(crate) fn packets(&mut self, peer: usize) -> Vec<Packet> {
        let version = self.peers[peer].session.version();
        let mut bytes = BytesMut::from(&std::mem::take(&mut self.peers[peer].raw)[..]);
        std::iter::from_fn(|| Frame::split(&mut bytes, MAX_PACKET_SIZE).unwrap())
            .map(|frame| Packet::decode(frame, version).unwrap())
            .collect()
    }

    pub(crate) fn subscription_count(&self) -> usize {
        self.router.subscription_count()
    }

    pub(crate) fn retained_count(&self) -> usize {
        self.router.retained_size().0
    }

    fn client(&mut self, peer: usize) -> &mut ClientSession {
        self.peers[peer].client.as_mut().expect("a peer with a client")
    }

    /// Moves bytes and carries out actions until nothing changes.
    fn run(&mut self) {
        loop {
            let mut changed = false;
            for index in 0..self.peers.len() {
                changed |= self.peers[index].client_step(self.now);
                changed |= self.broker_step(index);
                changed |= self.deliver(index);
                self.peers[index].flush();
            }
            if !changed {
                return;
            }
        }
    }

    fn broker_step(&mut self, index: usize) -> bool {
        let mut changed = false;
        let mut peer = &mut self.peers[index];
        while peer.session.wants_packets() {
            let limit = peer.session.packet_limit();
            let before = peer.to_broker.len();
            peer.session.handle_plain_pubacks(self.now, &mut peer.to_broker);
            changed |= peer.to_broker.len() < before;
            let packet = Frame::split(&mut peer.to_broker, limit)
                .and_then(|frame| frame.map(|frame| Packet::decode(frame, peer.session.version())).transpose());
            match packet {
                Ok(None) => break,
                Ok(Some(packet)) => peer.session.handle_packet(self.now, packet),
                Err(error) => peer.session.handle_decode_error(self.now, &error),
            }
            changed = true;
            while let Some(action) = self.peers[index].session.poll_action() {
                self.act(index, action);
            }
            peer = &mut self.peers[index];
        }
        while let Some(action) = self.peers[index].session.poll_action() {
            self.act(index, action);
            changed = true;
        }
        self.hand_on_run();
        while !self.commits_held
            && let Some(answer) = self.peers[index].answers.pop_front()
        {
            let session = &mut self.peers[index].session;
            match answer {
                Answer::Routed(qos, id, routed) => session.handle_routed(qos, id, routed),
                Answer::Committed(number) => session.handle_committed(self.now, number),
            }
            changed = true;
        }
        changed
    }

    fn act(&mut self, index: usize, action: Action) {
        if !matches!(action, Action::Route { .. }) {
            self.hand_on_run();
        }
        match action {
            Action::Authenticate(credentials) => {
                let access = match &self.policy {
                    None => Access::unrestricted(&credentials.client_id),
                    Some(policy) => {
                        let name = credentials.client_id.as_ref() as &str;
                        let identity = Identity { name: name.into(), attributes: Default::default() };
                        policy.bind(&identity, name).unwrap()
                    }
                };
                self.peers[index].session.handle_verdict(Verdict::Known(access));
            }
            Action::Admit { client_id, clean_start, .. } => self.admit(index, &client_id, clean_start),
            Action::Route { message, packet_id } => {
                let routed = self.route(&message);
                if let Some(id) = packet_id {
                    self.peers[index].answers.push_back(Answer::Routed(message.qos, id, routed));
                }
            }
            Action::Subscribe { filter, granted, send_retained } => {
                let slot = self.peers[index].slot.unwrap();
                self.router.subscribe(SessionKey(slot as u64), &filter, granted, slot);
                if send_retained {
                    for message in self.router.retained(&filter, self.now) {
                        self.push(slot, granted.retained_delivery(message));
                    }
                }
            }
            Action::Unsubscribe(filter) => {
                self.router.unsubscribe(SessionKey(self.peers[index].slot.unwrap() as u64), [&filter]);
            }
            Action::Keep(keep) => self.kept.push(keep),
            Action::Commit(number) => self.peers[index].answers.push_back(Answer::Committed(number)),
            Action::Refused(words) => self.peers[index].refusals.push(words),
            Action::Close { words, .. } => {
                let peer = &mut self.peers[index];
                peer.ending = words;
                peer.closing = true;
                peer.answers.clear();
                if let Some(parting) = peer.session.part() {
                    self.park(peer_slot(&self.peers[index]), parting);
                }
            }
        }
    }

    fn admit(&mut self, index: usize, client_id: &str, clean_start: bool) {
        let known = self.slots.iter().position(|slot| slot.client_id == client_id && !slot.over);
        if let Some(other) = known.and_then(|slot| self.slots[slot].peer) {
            let words = "taken over".into();
            self.peers[other].session.end(self.now, ReasonCode::SessionTakenOver, words, false);
            while let Some(action) = self.peers[other].session.poll_action() {
                self.act(other, action);
            }
            self.peers[other].flush();
        }
        let known = known.filter(|slot| !self.slots[*slot].over);
        let mut state = None;
        let slot = match known {
            Some(slot) if !clean_start => {
                state = self.slots[slot].parked.take().map(|parked| parked.state);
                slot
            }
            known => {
                if let Some(slot) = known {
                    let will = self.slots[slot].parked.as_mut().and_then(|parked| parked.will.take());
                    if let Some((_, message)) = will {
                        self.route(&message);
                    }
                    self.finish(slot);
                }
                self.slots.push(Slot {
                    client_id: client_id.into(),
                    outbox: Outbox::new(&self.limits),
                    peer: None,
                    parked: None,
                    over: false,
                });
                self.slots.len() - 1
            }
        };
        self.slots[slot].peer = Some(index);
        self.peers[index].slot = Some(slot);
        self.peers[index].session.handle_admitted(self.now, SessionKey(slot as u64), state);
    }

    fn park(&mut self, slot: usize, parting: Parting) {
        let Parting { expiry, state, will } = parting;
        self.slots[slot].peer = None;
        let ends = (expiry != NEVER).then(|| self.now + Duration::from_secs(expiry.into()));
        let will = will.map(|will| (self.now + will.delay, will.message));
        self.slots[slot].outbox.take_if(|entry| entry.qos() == QoS::AtMostOnce);
        self.slots[slot].parked = Some(Parked { state, ends, will });
        if expiry == 0 {
            return self.finish(slot);
        }
        let mut waiting = VecDeque::new();
        self.slots[slot].outbox.take(usize::MAX, &mut waiting);
        let (unsent, stays): (Vec<_>, Vec<_>) =
            waiting.into_iter().partition(|entry| entry.shared().is_some_and(|filter| self.has_other(filter)));
        self.slots[slot].outbox.put_back(stays.into_iter());
        self.hand_on(unsent.into_iter().flatten().collect());
    }

    /// Whether a shared subscription has a member that is connected.
    fn has_other(&self, filter: &TopicFilter) -> bool {
        let group = self.router.group(filter);
        group.is_some_and(|group| group.members().iter().any(|member| self.slots[member.handle].peer.is_some()))
    }

    /// The session is over.
    fn finish(&mut self, slot: usize) {
        self.slots[slot].over = true;
        let Some(mut parked) = self.slots[slot].parked.take() else { return };
        let filters = parked.state.subscriptions().map(|(filter, _)| filter);
        self.router.unsubscribe(SessionKey(slot as u64), filters);
        let mut shared = parked.state.take_shared();
        shared.extend(self.slots[slot].outbox.take_if(|entry| entry.shared().is_some()).into_iter().flatten());
        self.hand_on(shared);
    }

    /// Gives deliveries of shared subscriptions to other members.
    fn hand_on(&mut self, deliveries: Vec<Delivery>) {
        for delivery in deliveries {
            let group = delivery.shared().and_then(|filter| self.router.group(filter));
            if let Some(member) = group.as_ref().and_then(|group| group.choose(|slot| self.load(*slot)))
                && let Some(again) = member.delivery(&delivery.message)
            {
                self.push(member.handle, again);
            }
        }
    }

    fn load(&self, slot: usize) -> Load {
        match self.slots[slot].peer {
            Some(peer) => Load::Waiting(self.slots[slot].outbox.len() + self.in_flight(peer)),
            None if self.slots[slot].over => Load::Over,
            None => Load::Away,
        }
    }

    fn route(&mut self, message: &Arc<moorfall_core::Message>) -> Routed {
        if message.retain && self.router.retain(message, &self.limits).is_err() {
            return Routed::RetainedFull;
        }
        let route = self.router.route(&message.topic);
        let keeps = |recipient: &Recipient<usize>| recipient.qos > QoS::AtMostOnce && self.is_kept(recipient.handle);
        let plain = !message.retain
            && route.groups.is_empty()
            && (message.qos == QoS::AtMostOnce || !route.recipients.iter().any(keeps));
        if plain {
            let follows = self.run.last().is_none_or(|last| {
                (&last.topic, last.qos, last.publisher) == (&message.topic, message.qos, message.publisher)
            });
            if !follows {
                self.hand_on_run();
            }
            self.run.push(Arc::clone(message));
            let all = route.recipients.iter();
            return Routed::To(all.filter(|recipient| !recipient.is_own(message.publisher)).count());
        }
        self.hand_on_run();
        let chosen = route.groups.iter().filter_map(|group| group.choose(|slot| self.load(*slot)));
        let all: Vec<_> = route.recipients.iter().chain(chosen).collect();
        let mut count = 0;
        for recipient in all {
            if let Some(delivery) = recipient.delivery(message) {
                self.push(recipient.handle, delivery);
                count += 1;
            }
        }
        Routed::To(count)
    }

    fn hand_on_run(&mut self) {
        let Some(first) = self.run.first() else { return };
        let route = self.router.route(&first.topic);
        let run = Arc::new(Run::new(self.run.drain(..)));
        for recipient in &route.recipients {
            let Slot { outbox, peer, .. } = &mut self.slots[recipient.handle];
            let Some(part) = recipient.part(&run) else { continue };
            if peer.is_none() && part.qos == QoS::AtMostOnce {
                continue;
            }
            let pushed = outbox.push_part(part);
            if let Some(peer) = *peer {
                let withheld = pushed.dropped + pushed.displaced.len();
                self.peers[peer].withheld.extend(std::iter::repeat_n(Withheld::QueueFull, withheld));
            }
        }
    }

    fn is_kept(&self, slot: usize) -> bool {
        self.slots[slot].peer.is_none_or(|peer| self.peers[peer].session.is_kept())
    }

    fn push(&mut self, slot: usize, mut delivery: Delivery) {
        let kept = self.is_kept(slot);
        let Slot { outbox, peer, .. } = &mut self.slots[slot];
        if peer.is_none() && delivery.qos == QoS::AtMostOnce {
            return;
        }
        if kept && delivery.qos > QoS::AtMostOnce {
            delivery.sequence = outbox.next_sequence();
        }
        let pushed = outbox.push(delivery);
        if let Some(peer) = peer.filter(|_| pushed.dropped > 0) {
            self.peers[peer].withheld.push(Withheld::QueueFull);
        }
    }

    fn deliver(&mut self, index: usize) -> bool {
        let peer = &mut self.peers[index];
        let Some(slot) = peer.slot else { return false };
        let outbox = &mut self.slots[slot].outbox;
        let mut changed = false;
        let mut entries = VecDeque::new();
        outbox.take(TAKEN, &mut entries);
        while let Some(entry) = entries.pop_front() {
            let mut entry = Some(entry);
            let handled = peer.session.handle_queued(self.now, &mut entry, AHEAD);
            changed |= handled.sent > 0 || !handled.withheld.is_empty();
            peer.withheld.extend(handled.withheld.into_iter().map(|undelivered| undelivered.why));
            if let Some(left) = entry {
                entries.push_front(left);
                break;
            }
        }
        outbox.put_back(entries.into_iter());
        changed
    }
}

fn peer_slot(peer: &Peer) -> usize {
    peer.slot.expect("a client that was let in has a session")
}

impl Peer {
    fn client_step(&mut self, now: Time) -> bool {
        let Some(client) = self.client.as_mut().filter(|_| !self.muted) else { return false };
        let mut changed = false;
        while let Some(frame) = Frame::split(&mut self.to_client, MAX_PACKET_SIZE).unwrap() {
            client.handle_packet(now, Packet::decode(frame, client.version()).unwrap());
            changed = true;
        }
        if self.closing && self.to_client.is_empty() {
            client.handle_connection_lost("the broker closed the connection".into());
        }
        while let Some(event) = client.poll_event() {
            self.events.push(event);
            changed = true;
        }
        let count = client.outgoing().remaining();
        self.to_broker.extend_from_slice(&client.outgoing().copy_to_bytes(count));
        changed || count > 0
    }

    fn flush(&mut self) {
        let count = self.session.outgoing().remaining();
        let bytes = self.session.outgoing().copy_to_bytes(count);
        match self.client {
            Some(_) => self.to_client.extend_from_slice(&bytes),
            None => self.raw.extend_from_slice(&bytes),
        }
    }
}

impl World {
    /// Publishes from a client of its own that nobody looks at.
    pub(crate) fn publish_unheard(&mut self, topic: &str, payload: &str, qos: QoS) {
        let station = self.open(connect("unheard", ProtocolVersion::V5));
        self.publish(station, publish(topic, payload.as_bytes(), qos));
        self.disconnect(station);
    }

    /// Subscribes for a peer that is played by bytes; its SUBACK is among the packets.
    pub(crate) fn subscribe_raw(&mut self, peer: usize, filter: &str, qos: QoS) {
        let options = SubscriptionOptions { qos, ..SubscriptionOptions::default() };
        let subscriptions = vec![Subscription { filter: filter.parse().unwrap(), options }];
        let packet_id = PacketId::MAX;
        let properties = SubscribeProperties::default();
        self.inject(peer, &Packet::Subscribe(Subscribe { packet_id, properties, subscriptions }));
    }

    /// Whole packets that the broker has not taken off the connection.
    pub(crate) fn unread_packets(&self, peer: usize) -> usize {
        let mut bytes = self.peers[peer].to_broker.clone();
        std::iter::from_fn(|| Frame::split(&mut bytes, MAX_PACKET_SIZE).unwrap()).count()
    }
}
