//! What tests do with the broker and its peers.

use super::*;

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
            journey: 0,
            answered: Vec::new(),
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

    /// Connects and expects to be accepted.
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

    /// The same, for a client that messages are handed to.
    pub(crate) fn open_handing(&mut self, connect: Connect) -> usize {
        let peer = self.begin_silent();
        self.peers[peer].session.hand_over();
        let mut bytes = BytesMut::new();
        Packet::Connect(Box::new(connect)).encode(ProtocolVersion::V5, &mut bytes).unwrap();
        self.inject_bytes(peer, &bytes);
        peer
    }

    /// What was handed over.
    pub(crate) fn handed(&mut self, peer: usize) -> VecDeque<Handed> {
        let mut handed = VecDeque::new();
        let bytes = self.peers[peer].session.take_handed(&mut handed);
        assert_eq!(bytes, handed.iter().map(Handed::weight).sum::<usize>());
        // There is room for more.
        self.run();
        handed
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
        self.client(peer).subscribe(now, subscriptions, Default::default()).unwrap();
        self.run();
        self.take_answers(peer)
    }

    /// Subscribes with an identifier.
    pub(crate) fn subscribe_as(&mut self, peer: usize, filter: &str, identifier: u32) {
        let now = self.now;
        let options = SubscriptionOptions { qos: QoS::ExactlyOnce, ..SubscriptionOptions::default() };
        let subscriptions = vec![Subscription { filter: filter.parse().unwrap(), options }];
        let subscription_identifier = std::num::NonZeroU32::new(identifier).map(VariableInt);
        let properties = SubscribeProperties { subscription_identifier, ..SubscribeProperties::default() };
        self.client(peer).subscribe(now, subscriptions, properties).unwrap();
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
        lost.session.handle_connection_lost(self.now, Ended::Closed);
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
