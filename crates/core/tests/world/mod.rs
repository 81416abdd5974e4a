//! A broker without sockets: sessions, a router and clients, joined by byte buffers and driven by one fake clock.

use std::{collections::VecDeque, sync::Arc, time::Duration};

use bytes::{Buf, BytesMut};
use moorfall_core::{
    Delivery, Identity, Limits, Outbox, Pushed, SessionKey, Time,
    access::{Access, Policy},
    blueprint::Blueprint,
    client::{ClientSession, Event},
    router::Router,
    session::{Action, Routed, Session, Verdict, Withheld},
};
use moorfall_wire::*;

/// The broker and its peers.
pub(crate) struct World {
    now: Time,
    limits: Arc<Limits>,
    policy: Option<Policy>,
    router: Router<usize>,
    peers: Vec<Peer>,
}

struct Peer {
    client_id: String,
    session: Session,
    /// Absent for a peer that the test plays by bytes.
    client: Option<ClientSession>,
    outbox: Outbox,
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
        .find_map(|event| if let Event::Closed { words } = event { Some(words.clone()) } else { None })
        .unwrap_or_default()
}

impl World {
    pub(crate) fn with_limits(limits: Limits) -> Self {
        let now = Time::from_micros(1_000_000);
        Self { now, limits: Arc::new(limits), policy: None, router: Router::default(), peers: Vec::new() }
    }

    /// A broker with rules; the identity of a client is its client identifier. Without rules all is allowed.
    pub(crate) fn with_blueprint(source: &str) -> Self {
        let policy = Policy::new(Blueprint::parse(source).unwrap().into());
        Self { policy: Some(policy), ..Self::default() }
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
        let client_id = connect.client_id.to_string();
        let client = ClientSession::new(connect, self.now).unwrap();
        self.add(client_id, Some(client))
    }

    /// A connection that sends nothing by itself.
    pub(crate) fn begin_silent(&mut self) -> usize {
        self.add(String::new(), None)
    }

    fn add(&mut self, client_id: String, client: Option<ClientSession>) -> usize {
        let index = self.peers.len();
        let session =
            Session::new(SessionKey(index as u64), Arc::clone(&self.limits), format!("spare-{index}"), self.now);
        self.peers.push(Peer {
            client_id,
            session,
            client,
            outbox: Outbox::new(&self.limits),
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
        self.client(peer).subscribe(now, subscriptions).unwrap();
        self.run();
        self.take_answers(peer)
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

    pub(crate) fn break_connection(&mut self, peer: usize) {
        self.peers[peer].session.handle_connection_lost(self.now, "the connection broke".into());
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
        self.peers[peer].outbox.len()
    }

    /// Everything that the broker has sent to a peer played by bytes.
    pub(crate) fn raw(&self, peer: usize) -> &[u8] {
        &self.peers[peer].raw
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
        let peer = &mut self.peers[index];
        if peer.session.wants_packets() {
            let limit = peer.session.packet_limit();
            let packet = Frame::split(&mut peer.to_broker, limit)
                .and_then(|frame| frame.map(|frame| Packet::decode(frame, peer.session.version())).transpose());
            match packet {
                Ok(None) => {}
                Ok(Some(packet)) => {
                    peer.session.handle_packet(self.now, packet);
                    changed = true;
                }
                Err(error) => {
                    peer.session.handle_decode_error(self.now, &error);
                    changed = true;
                }
            }
        }
        while let Some(action) = self.peers[index].session.poll_action() {
            self.act(index, action);
            changed = true;
        }
        changed
    }

    fn act(&mut self, index: usize, action: Action) {
        let key = SessionKey(index as u64);
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
                self.peers[index].session.handle_verdict(self.now, Verdict::Known(access));
            }
            Action::Admit { client_id, .. } => {
                for other in 0..self.peers.len() {
                    if other != index && self.peers[other].client_id == *client_id && self.is_open(other) {
                        self.peers[other].session.end(self.now, ReasonCode::SessionTakenOver, "taken over".into());
                        while let Some(action) = self.peers[other].session.poll_action() {
                            self.act(other, action);
                        }
                        self.peers[other].flush();
                    }
                }
                self.peers[index].session.handle_admitted(self.now);
            }
            Action::Route { message, packet_id } => {
                let full = message.retain && self.router.retain(&message, &self.limits).is_err();
                let mut count = 0;
                for recipient in self.router.route(&message.topic).iter().filter(|_| !full) {
                    if recipient.no_local && recipient.session == key {
                        continue;
                    }
                    let retain = message.retain && recipient.retain_as_published;
                    let qos = message.qos.min(recipient.qos);
                    self.push(recipient.handle, Delivery { message: Arc::clone(&message), qos, retain });
                    count += 1;
                }
                if let Some(id) = packet_id {
                    let routed = if full { Routed::RetainedFull } else { Routed::To(count) };
                    self.peers[index].session.handle_routed(id, routed);
                }
            }
            Action::Subscribe { filter, options, send_retained } => {
                self.router.subscribe(key, &filter, options, index);
                if send_retained {
                    for message in self.router.retained(&filter, self.now) {
                        let qos = message.qos.min(options.qos);
                        self.push(index, Delivery { message, qos, retain: true });
                    }
                }
            }
            Action::Unsubscribe(filter) => {
                self.router.unsubscribe(key, [&filter]);
            }
            Action::Refused(words) => self.peers[index].refusals.push(words),
            Action::Close { words, .. } => {
                let peer = &mut self.peers[index];
                self.router.unsubscribe(key, peer.session.subscriptions().map(|(filter, _)| filter));
                peer.ending = words;
                peer.closing = true;
            }
        }
    }

    fn push(&mut self, index: usize, delivery: Delivery) {
        let peer = &mut self.peers[index];
        if peer.outbox.push(delivery) == Pushed::Dropped {
            peer.withheld.push(Withheld::QueueFull);
        }
    }

    fn deliver(&mut self, index: usize) -> bool {
        let peer = &mut self.peers[index];
        let mut changed = false;
        let mut one = VecDeque::new();
        while peer.session.can_deliver(QoS::AtLeastOnce) && !peer.outbox.is_empty() {
            peer.outbox.take(1, &mut one);
            if let Some(delivery) = one.pop_front()
                && let Err(why) = peer.session.handle_delivery(self.now, &delivery)
            {
                peer.withheld.push(why);
            }
            changed = true;
        }
        changed
    }
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
