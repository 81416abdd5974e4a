//! A broker without sockets: sessions, a router and clients, joined by byte buffers and driven by one fake clock. What
//! tests do with it stands in [`play`], what they read of it in [`reading`].

mod play;
mod reading;

use std::{collections::VecDeque, sync::Arc, time::Duration};

use bytes::{Buf, BytesMut};
use moorfall_core::{
    Delivery, Identity, Limits, Outbox, Run, SessionKey, Time,
    access::{Access, Policy},
    blueprint::Blueprint,
    client::{ClientSession, ClientState, Event},
    router::{Load, Recipient, Router, Subscriber},
    session::{Action, Ended, Handed, Keep, NEVER, Parting, Routed, Session, SessionState, Verdict, Withheld},
};
use moorfall_wire::*;

pub(crate) use self::reading::*;

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
    /// While not 0, the number under which journeys of messages are recorded.
    pub(crate) journey: u64,
    /// What clients have answered to messages whose journeys are recorded: peer, number, reason.
    pub(crate) answered: Vec<(usize, u64, ReasonCode)>,
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

impl World {
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
            while peer.session.handle_plain_acknowledgements(self.now, &mut peer.to_broker).is_some() {}
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
                let message = if self.journey > 0 { Arc::new(message.followed(self.journey)) } else { message };
                let routed = self.route(&message);
                if let Some(id) = packet_id {
                    self.peers[index].answers.push_back(Answer::Routed(message.qos, id, routed));
                }
            }
            Action::Subscribe { filter, granted, send_retained } => {
                let slot = self.peers[index].slot.unwrap();
                self.router.subscribe(SessionKey(slot as u64), &filter, Subscriber::new(granted.clone(), slot));
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
            Action::Acknowledged { journey, reason } => self.answered.push((index, journey, reason)),
            Action::Refused(refusal) => self.peers[index].refusals.push(refusal.to_string()),
            Action::Close(why) => {
                let peer = &mut self.peers[index];
                peer.ending = why.to_string();
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
            self.peers[other].session.end(self.now, Ended::TakenOver, false);
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
        self.router.has_member(filter, |_, slot| self.slots[*slot].peer.is_some())
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
            let topic = &delivery.message.topic;
            let group = delivery.shared().and_then(|filter| self.router.group(filter, topic));
            if let Some(member) = group.as_ref().and_then(|group| group.choose(|way| self.load(way.recipient.handle)))
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
        if message.retain
            && let Err(full) = self.router.retain(message, &Arc::default(), &self.limits)
        {
            return Routed::RetainedFull(full);
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
        let chosen = route.groups.iter().filter_map(|group| group.choose(|way| self.load(way.recipient.handle)));
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
        let pushed = outbox.push(delivery, |_| {});
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
    peer.slot.expect("a client that was accepted has a session")
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
