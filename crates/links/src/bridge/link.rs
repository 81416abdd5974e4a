//! One link while it is up: a task that moves packets between the bridge's two clients here and the one there.

use std::{
    collections::VecDeque,
    future::{pending, poll_fn},
    io,
    pin::Pin,
    sync::Arc,
    task::{Context, Poll, ready},
    time::Duration,
};

use bytes::{Buf, Bytes, BytesMut};
use moorfall_broker::{connection::handover::Handover, notes};
use moorfall_client::{Dialled, Layer};
use moorfall_core::{
    Outgoing, SessionKey, Time,
    blueprint::Bridge,
    bridge::{
        Direction, NotCarried,
        relay::{ALIASES, Beginning, End, Happened, Names, NextId, Relay, Said},
    },
    measure::Measure,
    session::Handed,
};
use moorfall_live::{facts::Fact, journeys::Across};
use moorfall_wire::{
    Frame, MAX_PACKET_SIZE, Packet, PacketId, ProtocolVersion, Publish, QoS, SubAck, Subscription, TopicName,
};
use tokio::{
    io::AsyncWrite,
    sync::watch,
    time::{Instant, MissedTickBehavior, interval, sleep, timeout},
};
use tokio_util::io::poll_read_buf;

use super::{
    fault::{LinkFault, in_words},
    here::{Here, IN_FLIGHT, lowered, refusals, wanted},
    seen::{Phase, Seen},
    wish::{Mode, Wish},
};
use crate::inside::requests;

/// Bytes that are read at a time.
const READ: usize = 64 * 1024;

/// How long the remote may take to answer SUBSCRIBE.
const SUBSCRIBED: Duration = Duration::from_secs(15);

/// Between two pings at most.
const PING: Duration = Duration::from_secs(10);

/// How long nothing is read while retained messages come too fast.
const SLOWED: Duration = Duration::from_millis(4);

/// How long the last bytes may take to leave.
const FAREWELL: Duration = Duration::from_secs(2);

/// Between two times that refusals are told.
const TOLD: Duration = Duration::from_secs(30);

/// A link that ends so soon after it was made was not wanted there.
const AT_ONCE: Duration = Duration::from_secs(5);

/// Payloads of status messages.
pub(super) const UP: &str = "up";
pub(super) const DOWN: &str = "down";

/// What a link begins with.
pub(super) struct Start {
    pub(super) bridge: Arc<Bridge>,
    /// The address, as it is told.
    pub(super) remote: String,
    pub(super) dialled: Dialled,
    pub(super) names: Names,
    /// Whether the remote's session is the one that ours here was connected with last.
    pub(super) in_line: bool,
    /// Filters that were subscribed to before.
    pub(super) before: (Vec<String>, Vec<String>),
    pub(super) next_id: Box<dyn NextId>,
    pub(super) terms: moorfall_core::bridge::RemoteTerms,
    /// Whether nothing new is taken from here.
    pub(super) drains: bool,
}

/// Why a link has ended.
#[derive(Debug)]
pub(super) enum Ended {
    /// Something is wrong.
    Fault(LinkFault),
    /// It was told to rest, or to begin anew, or its design has changed, or the service stops.
    Told,
    /// Everything that waited was sent.
    Drained,
    /// The first address may be good again.
    FailBack,
}

struct Side {
    stream: Box<dyn Layer>,
    buffer: BytesMut,
    version: ProtocolVersion,
    unflushed: bool,
}

impl Side {
    fn new(stream: Box<dyn Layer>, buffer: BytesMut, version: ProtocolVersion) -> Self {
        Self { stream, buffer, version, unflushed: false }
    }

    fn next_packet(&mut self) -> Result<Option<Packet>, moorfall_wire::DecodeError> {
        let frame = Frame::split(&mut self.buffer, MAX_PACKET_SIZE)?;
        frame.map(|frame| Packet::decode(frame, self.version)).transpose()
    }

    /// Writes what it can, and reads if that is wanted. Ready when something has moved.
    fn poll_move(&mut self, context: &mut Context<'_>, out: &mut Outgoing, reads: bool) -> Poll<io::Result<()>> {
        let mut moved = false;
        while out.has_remaining() {
            match Pin::new(&mut self.stream).poll_write(context, out.chunk())? {
                Poll::Ready(0) => return Poll::Ready(Err(io::ErrorKind::WriteZero.into())),
                Poll::Ready(count) => {
                    out.advance(count);
                    self.unflushed = true;
                    moved = true;
                }
                Poll::Pending => break,
            }
        }
        if self.unflushed && Pin::new(&mut self.stream).poll_flush(context)?.is_ready() {
            self.unflushed = false;
        }
        if reads && self.buffer.len() < READ {
            self.buffer.reserve(READ);
            if let Poll::Ready(read) = poll_read_buf(Pin::new(&mut self.stream), context, &mut self.buffer)? {
                if read == 0 {
                    return Poll::Ready(Err(io::ErrorKind::UnexpectedEof.into()));
                }
                moved = true;
            }
        }
        if moved { Poll::Ready(Ok(())) } else { Poll::Pending }
    }
}

/// A link.
pub(super) struct Link {
    here: Arc<Here>,
    seen: Arc<Seen>,
    bridge: Arc<Bridge>,
    remote_name: String,
    relay: Relay,
    remote: Side,
    pull: Side,
    /// Absent until the remote has answered SUBSCRIBE: its packet identifiers must not be those of messages.
    push: Option<Side>,
    /// Where messages come from that are pushed.
    handover: Arc<Handover>,
    /// Those that were taken from there.
    handed: VecDeque<Handed>,
    /// That session's key.
    session: SessionKey,
    here_before: Vec<String>,
    there_before: Vec<String>,
    began: Instant,
    pinged: Instant,
    /// The longest silence, seconds: what the remote says, or else what the bridge asked for (§3.2.2.3.14).
    keep_alive: u16,
    told: Option<Instant>,
    refused: u64,
    draining: bool,
}

impl Link {
    /// Connects the client here that publishes, and asks the remote for what is pulled.
    pub(super) async fn begin(here: Arc<Here>, seen: Arc<Seen>, start: Start) -> Result<Self, LinkFault> {
        let Start { bridge, remote, dialled, names, in_line, before, next_id, terms, drains } = start;
        let clean_start = !(terms.session_present && in_line);
        let (opened, _nothing_comes) =
            here.open(&bridge, Direction::Pull, |connect| connect.clean_start = clean_start).await?;
        let now = here.broker.now();
        let (here_before, there_before) = before;
        let new_here = |one: &&Subscription| !here_before.contains(&one.filter.to_string());
        let router = &here.broker.sessions.router;
        let retained = |one: &Subscription| router.retained(&one.filter, now).len();
        let retained_here = wanted(&bridge, Direction::Push).iter().filter(new_here).map(retained).sum();
        let beginning = Beginning { in_line, retained_here, retained_there: !terms.session_present, at: now };
        let relay = Relay::new(Arc::clone(&bridge), names, terms, beginning, next_id);
        let mut link = Self {
            here: Arc::clone(&here),
            seen,
            remote_name: remote,
            relay,
            remote: Side::new(dialled.stream, dialled.buffer, terms.version),
            pull: Side::new(opened.stream, opened.buffer, ProtocolVersion::V5),
            push: None,
            handover: Arc::default(),
            handed: VecDeque::new(),
            session: SessionKey(0),
            here_before,
            there_before: if terms.session_present { there_before } else { Vec::new() },
            began: Instant::now(),
            pinged: Instant::now(),
            keep_alive: terms.keep_alive.unwrap_or(bridge.keep_alive),
            told: None,
            refused: 0,
            draining: drains,
            bridge,
        };
        let all = link.wanted_there(&terms);
        for packet in requests(&all, &link.there_before) {
            link.relay
                .outgoing(End::Remote)
                .put_packet(&packet, terms.version)
                .map_err(moorfall_client::ConnectError::from)?;
        }
        if all.is_empty() {
            link.open_push(&terms).await?;
        }
        Ok(link)
    }

    /// What the remote is asked for: not what it does not have.
    fn wanted_there(&self, terms: &moorfall_core::bridge::RemoteTerms) -> Vec<Subscription> {
        let mut all = wanted(&self.bridge, Direction::Pull);
        if !terms.wildcards {
            all.retain(|one| !one.filter.has_wildcard());
        }
        all
    }

    async fn open_push(&mut self, terms: &moorfall_core::bridge::RemoteTerms) -> Result<(), LinkFault> {
        let most = PacketId::new(terms.receive_maximum.min(IN_FLIGHT));
        let opened = self.here.open(&self.bridge, Direction::Push, |connect| {
            connect.properties.receive_maximum = most;
        });
        let (Dialled { stream, buffer, .. }, handover) = opened.await?;
        self.handover = handover;
        let all = if self.draining { Vec::new() } else { wanted(&self.bridge, Direction::Push) };
        for packet in requests(&all, &self.here_before) {
            let out = self.relay.outgoing(End::Push);
            out.put_packet(&packet, ProtocolVersion::V5).map_err(moorfall_client::ConnectError::from)?;
        }
        self.push = Some(Side::new(stream, buffer, ProtocolVersion::V5));
        let registry = &self.here.broker.sessions.registry;
        let record = registry.get(&self.bridge.client_id(Direction::Push));
        self.session = record.map_or(SessionKey(0), |record| record.key);
        Ok(())
    }

    /// Carries until the link ends, or until it may go back to the first address.
    pub(super) async fn run(
        mut self,
        wishes: &mut watch::Receiver<Wish>,
        fail_back: impl Future<Output = ()>,
    ) -> Ended {
        let begun_with = wishes.borrow_and_update().retry;
        let mut fail_back = std::pin::pin!(fail_back);
        let mut ticks = interval(Duration::from_secs(1));
        ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
        let stopping = self.here.broker.common.stopping.clone();
        loop {
            match self.carry().await {
                Ok(()) => {}
                Err(fault) => return Ended::Fault(fault),
            }
            if let (None, true) = (&self.push, self.began.elapsed() > SUBSCRIBED) {
                let remote = self.remote_name.clone();
                return Ended::Fault(LinkFault::NotSubscribed { remote, within: SUBSCRIBED });
            }
            let slowed = self.relay.waits_for_time(self.here.broker.now());
            let moved = tokio::select! {
                moved = self.moved() => moved,
                () = async { if slowed { sleep(SLOWED).await } else { pending().await } } => Ok(()),
                _ = ticks.tick() => {
                    if let Some(ended) = self.tick().await { return ended }
                    Ok(())
                }
                changed = wishes.changed() => {
                    let wish = *wishes.borrow_and_update();
                    let goes_on = changed.is_ok() && wish.retry == begun_with;
                    match wish.mode {
                        Mode::Drain if goes_on && !self.draining => self.drain().await,
                        Mode::Drain if goes_on => Ok(()),
                        Mode::Run if goes_on && !self.draining => Ok(()),
                        _ => {
                            self.leave().await;
                            return Ended::Told;
                        }
                    }
                }
                () = &mut fail_back => {
                    self.leave().await;
                    return Ended::FailBack;
                }
                () = stopping.cancelled() => {
                    self.leave().await;
                    return Ended::Told;
                }
            };
            if let Err(fault) = moved {
                return Ended::Fault(fault);
            }
        }
    }

    /// Handles every packet that has come, as far as there is room for what becomes of it.
    async fn carry(&mut self) -> Result<(), LinkFault> {
        let now = self.here.broker.now();
        loop {
            let mut moved = false;
            while self.relay.wants(End::Remote, now) {
                let packet = self.remote.next_packet().map_err(|error| LinkFault::Malformed {
                    remote: self.remote_name.clone(),
                    words: error.to_string(),
                })?;
                let Some(packet) = packet else { break };
                moved = true;
                match packet {
                    Packet::SubAck(ack) => self.subscribed_there(&ack).await?,
                    Packet::UnsubAck(_) => {}
                    packet => {
                        let router = &self.here.broker.sessions.router;
                        let is_retained = |topic: &TopicName, payload: &Bytes| {
                            router.retained_of(topic).is_some_and(|message| message.payload == *payload)
                        };
                        self.relay.handle_remote(packet, now, is_retained);
                    }
                }
                self.note(now)?;
            }
            while self.relay.wants(End::Pull, now) {
                let Some(packet) = self.pull.next_packet().map_err(|error| LinkFault::Here(error.to_string()))? else {
                    break;
                };
                moved = true;
                match packet {
                    Packet::Disconnect(goodbye) => return Err(here_ended(&goodbye)),
                    packet => self.relay.handle_pull(packet, now),
                }
                self.note(now)?;
            }
            while self.push.is_some() && self.relay.wants(End::Push, now) {
                let next = self.push.as_mut().map(Side::next_packet).transpose();
                let Some(packet) = next.map_err(|error| LinkFault::Here(error.to_string()))?.flatten() else { break };
                moved = true;
                match packet {
                    Packet::SubAck(ack) => self.subscribed_here(&ack.reasons).await?,
                    Packet::Disconnect(goodbye) => return Err(here_ended(&goodbye)),
                    packet => self.relay.handle_push(&packet),
                }
                self.note(now)?;
            }
            while self.relay.wants(End::Push, now) {
                self.handover.take(&mut self.handed);
                let Some(handed) = self.handed.pop_front() else { break };
                moved = true;
                self.relay.push(handed, now);
                self.note(now)?;
            }
            if !moved {
                return Ok(());
            }
        }
    }

    /// Waits until bytes have moved.
    async fn moved(&mut self) -> Result<(), LinkFault> {
        let now = self.here.broker.now();
        let Self { relay, remote, pull, push, handover, handed, .. } = self;
        let moved = poll_fn(|context| {
            // What was taken goes first, as soon as there is room for it.
            let mut any = handed.is_empty() && relay.wants(End::Push, now) && handover.poll_ready(context).is_ready();
            for end in [End::Remote, End::Pull, End::Push] {
                let side = match end {
                    End::Remote => &mut *remote,
                    End::Pull => &mut *pull,
                    End::Push => match push {
                        Some(push) => push,
                        None => continue,
                    },
                };
                let reads = relay.wants(end, now);
                match side.poll_move(context, relay.outgoing(end), reads) {
                    Poll::Ready(Ok(())) => any = true,
                    Poll::Ready(Err(error)) => return Poll::Ready(Err((end, error))),
                    Poll::Pending => {}
                }
            }
            if any { Poll::Ready(Ok(())) } else { Poll::Pending }
        });
        let Err((end, error)) = moved.await else { return Ok(()) };
        // What was read before the end is still to be heard: it may say why.
        if error.kind() == io::ErrorKind::UnexpectedEof {
            self.carry_last()?;
        }
        Err(self.broken(end, error))
    }

    fn carry_last(&mut self) -> Result<(), LinkFault> {
        let now = self.here.broker.now();
        while let Ok(Some(packet)) = self.remote.next_packet() {
            if matches!(packet, Packet::Disconnect(_)) {
                self.relay.handle_remote(packet, now, |_, _| false);
                self.note(now)?;
            }
        }
        Ok(())
    }

    fn broken(&self, end: End, error: io::Error) -> LinkFault {
        if end != End::Remote {
            return LinkFault::Here("it closed the connection".into());
        }
        let remote = self.remote_name.clone();
        let after = self.began.elapsed();
        match error.kind() {
            io::ErrorKind::UnexpectedEof | io::ErrorKind::ConnectionReset if after < AT_ONCE => {
                LinkFault::ClosedAtOnce { remote, client_id: self.bridge.client_id.clone(), after }
            }
            io::ErrorKind::UnexpectedEof => LinkFault::Closed { remote },
            _ => LinkFault::Broke { remote, error },
        }
    }

    /// What the remote granted of what is pulled; then messages may go there, too.
    async fn subscribed_there(&mut self, answer: &SubAck) -> Result<(), LinkFault> {
        if self.push.is_some() {
            return Ok(());
        }
        let Some(terms) = self.seen.standing().terms else { return Ok(()) };
        let all = self.wanted_there(&terms);
        for (filter, reason) in refusals(&all, &answer.reasons) {
            let said = Said { reason, words: answer.properties.reason_string.clone() };
            let why = format!("{} refused the subscription: {}", self.remote_name, in_words(&said));
            self.trouble(Direction::Pull, &filter, why.clone());
            self.tell_refused(&filter, why);
        }
        for (filter, qos) in lowered(&all, &answer.reasons) {
            let why = format!("{} grants QoS {qos} at most", self.remote_name);
            self.trouble(Direction::Pull, &filter, why);
        }
        let filters: Vec<String> = all.iter().map(|one| one.filter.to_string()).collect();
        if filters != self.there_before {
            self.here.broker.store().put_bridge_there(&self.bridge.name, &filters).await?;
        }
        self.open_push(&terms).await
    }

    /// What this broker granted of what is pushed.
    async fn subscribed_here(&mut self, reasons: &[moorfall_wire::ReasonCode]) -> Result<(), LinkFault> {
        let all = wanted(&self.bridge, Direction::Push);
        for (filter, reason) in refusals(&all, reasons) {
            refused_here(&self.seen, &filter, reason);
        }
        let filters: Vec<String> = all.iter().map(|one| one.filter.to_string()).collect();
        if filters != self.here_before {
            self.here.broker.store().put_bridge_here(&self.bridge.name, &filters).await?;
            self.here_before = filters;
        }
        Ok(())
    }

    fn trouble(&self, direction: Direction, filter: &str, why: String) {
        trouble(&self.seen, direction, filter, &why);
    }

    fn tell_refused(&mut self, topic: &str, why: String) {
        self.refused += 1;
        if self.told.is_some_and(|at| at.elapsed() < TOLD) {
            return;
        }
        self.told = Some(Instant::now());
        let (bridge, topic, count) = (self.bridge.name.clone(), topic.to_owned(), std::mem::take(&mut self.refused));
        let fact = Fact::BridgeRefused { bridge, topic, why, count };
        notes::note(&self.here.broker.live, self.here.broker.now(), &fact);
    }

    /// Counts what has happened.
    fn note(&mut self, now: Time) -> Result<(), LinkFault> {
        while let Some(happened) = self.relay.poll_happened() {
            let live = &self.here.broker.live;
            match happened {
                Happened::Carried { direction, mapping, to, payload, untold, is_first, journey } => {
                    let bytes = payload.len() as u64;
                    // What has passed other brokers is known to the one that it began at.
                    if direction == Direction::Push && is_first {
                        live.ways.note_sent(&to, [&*payload], untold, now);
                    }
                    self.seen.flow(direction, Some(mapping)).carried(1, bytes, now);
                    live.counters.count_by(Measure::Bridged, direction, 1);
                    live.counters.count_by(Measure::BridgedBytes, direction, bytes);
                    if journey != 0 {
                        let remote = self.remote_name.clone();
                        live.recorder.across(journey, self.session, || Across::Sent { topic: to, remote });
                    }
                }
                Happened::PushedRun { mapping, to, part, untold } => {
                    live.ways.note_sent(&to, part.payloads(), untold, now);
                    let (count, bytes) = (part.len() as u64, part.payloads().map(<[u8]>::len).sum::<usize>() as u64);
                    self.seen.flow(Direction::Push, Some(mapping)).carried(count, bytes, now);
                    live.counters.count_by(Measure::Bridged, Direction::Push, count);
                    live.counters.count_by(Measure::BridgedBytes, Direction::Push, bytes);
                }
                Happened::Acknowledged { direction, mapping, .. } => {
                    let flow = self.seen.flow(direction, Some(mapping));
                    flow.acknowledged.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
                }
                Happened::NotCarried { direction, mapping, topic, why, said, journey } => {
                    self.seen.flow(direction, mapping).not_carried(why);
                    live.counters.count_by(Measure::BridgeNotCarried, why, 1);
                    if journey != 0 {
                        let said = said.as_ref().map(in_words).unwrap_or_default();
                        live.recorder.across(journey, self.session, || Across::NotCarried { why, said });
                    }
                    match (why, said) {
                        (NotCarried::Refused, Some(said)) => {
                            let who = match direction {
                                Direction::Push => self.remote_name.clone(),
                                Direction::Pull => "this broker".to_owned(),
                            };
                            self.tell_refused(&topic, format!("{who} refused a message: {}.", in_words(&said)));
                        }
                        (NotCarried::TooLarge, _) => {
                            self.tell_refused(&topic, format!("A message is larger than {} takes.", self.remote_name));
                        }
                        _ => {}
                    }
                }
                Happened::Pong(took) => self.seen.change(|standing| standing.round_trip = Some(took)),
                Happened::Over(over) => {
                    return Err(LinkFault::of(over, &self.remote_name, PING));
                }
            }
        }
        Ok(())
    }

    /// What is due each second.
    async fn tick(&mut self) -> Option<Ended> {
        let now = self.here.broker.now();
        let keep_alive = Duration::from_secs(self.keep_alive.max(1).into()).mul_f32(0.7);
        if self.pinged.elapsed() >= keep_alive.min(PING) {
            self.pinged = Instant::now();
            self.relay.ping(now);
            if let Err(fault) = self.note(now) {
                return Some(Ended::Fault(fault));
            }
        }
        if self.draining && self.push.is_some() {
            let record = self.here.broker.sessions.registry.get(&self.bridge.client_id(Direction::Push));
            let waits = record.is_some_and(|record| {
                record.waiting().0 > 0 || record.in_flight.load(std::sync::atomic::Ordering::Relaxed) > 0
            });
            if !waits && self.relay.in_flight() == (0, 0) {
                self.leave().await;
                return Some(Ended::Drained);
            }
        }
        None
    }

    /// Takes nothing new from here on.
    async fn drain(&mut self) -> Result<(), LinkFault> {
        self.draining = true;
        self.seen.enter(Phase::Draining, self.here.broker.now());
        if self.push.is_some() {
            let filters: Vec<String> =
                wanted(&self.bridge, Direction::Push).iter().map(|one| one.filter.to_string()).collect();
            for packet in requests(&[], &filters) {
                let out = self.relay.outgoing(End::Push);
                out.put_packet(&packet, ProtocolVersion::V5).map_err(moorfall_client::ConnectError::from)?;
            }
        }
        // What is subscribed to again is new then.
        Ok(self.here.broker.store().put_bridge_here(&self.bridge.name, &[]).await?)
    }

    /// Says on the remote how the bridge is.
    pub(super) fn say_status(&mut self, words: &'static str) {
        let Some(topic) = self.bridge.status_there.clone() else { return };
        let retain = self.seen.standing().terms.is_some_and(|terms| terms.retained);
        let message = Publish { retain, ..Publish::new(topic, words.as_bytes(), QoS::AtMostOnce) };
        let version = self.remote.version;
        // A topic that was read as one always encodes.
        let _ = self.relay.outgoing(End::Remote).put_packet(&Packet::Publish(message), version);
    }

    /// Says goodbye. What is not acknowledged stays with the sessions.
    async fn leave(&mut self) {
        self.say_status(DOWN);
        self.relay.say_goodbye();
        let Self { relay, remote, .. } = self;
        let out = relay.outgoing(End::Remote);
        let farewell = poll_fn(|context| {
            while out.has_remaining() {
                let written = ready!(Pin::new(&mut remote.stream).poll_write(context, out.chunk()))?;
                if written == 0 {
                    break;
                }
                out.advance(written);
            }
            ready!(Pin::new(&mut remote.stream).poll_flush(context))?;
            Pin::new(&mut remote.stream).poll_shutdown(context)
        });
        // Whoever does not take a goodbye goes without one.
        let _ = timeout(FAREWELL, farewell).await;
    }
}

fn here_ended(goodbye: &moorfall_wire::Disconnect) -> LinkFault {
    let words = goodbye.properties.reason_string.as_deref().map(|words| format!(" {words}")).unwrap_or_default();
    LinkFault::Here(format!("{}.{words}", goodbye.reason.coded()))
}

/// Notes of each mapping with this filter what keeps it from carrying.
pub(super) fn trouble(seen: &Seen, direction: Direction, filter: &str, why: &str) {
    let places = seen.bridge.mappings(direction).iter().enumerate();
    let concerned: Vec<usize> =
        places.filter(|(_, mapping)| **mapping.names.filter() == *filter).map(|(place, _)| place).collect();
    seen.change(|standing| {
        for place in concerned {
            let list = standing.troubles.entry((direction, place)).or_default();
            if !list.iter().any(|known| known == why) {
                list.push(why.to_owned());
            }
        }
    });
}

/// A subscription that the rules of this broker do not allow.
pub(super) fn refused_here(seen: &Seen, filter: &str, reason: moorfall_wire::ReasonCode) {
    let identity = seen.bridge.identity().name;
    let why = format!(
        "this broker refuses {identity} the subscription ({}); add a rule that allows it, or see `moorfall access explain`",
        reason.coded()
    );
    trouble(seen, Direction::Push, filter, &why);
}

/// What the remote's limits mean for the mappings.
pub(super) fn note_limits(seen: &Seen, remote: &str, terms: &moorfall_core::bridge::RemoteTerms) {
    for (direction, place, mapping) in [Direction::Push, Direction::Pull]
        .into_iter()
        .flat_map(|direction| seen.bridge.mappings(direction).iter().enumerate().map(move |(i, m)| (direction, i, m)))
    {
        let mut words = Vec::new();
        if mapping.highest_qos > terms.highest_qos && direction == Direction::Push {
            words.push(format!("{remote} takes QoS {} at most, so messages above it go at that", terms.highest_qos));
        }
        if mapping.retained && !terms.retained {
            words.push(format!("{remote} has no retained messages, so none stays retained there"));
        }
        if direction == Direction::Pull && !terms.wildcards && mapping.names.filter().has_wildcard() {
            words.push(format!("{remote} has no subscriptions with wildcards, so nothing is pulled by this filter"));
        }
        if direction == Direction::Pull && mapping.retained && terms.version == ProtocolVersion::V311 {
            words.push("MQTT 3.1.1 tells which messages are retained only when the subscription is made".to_owned());
        }
        seen.change(|standing| {
            standing.troubles.remove(&(direction, place));
            if !words.is_empty() {
                standing.troubles.insert((direction, place), words);
            }
        });
    }
}

/// Topic aliases that are offered to the remote.
pub(super) const fn aliases() -> u16 {
    ALIASES
}
