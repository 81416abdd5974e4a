//! One MQTT connection: a task that moves bytes, carries out the session's actions and drains its queue.

mod admission;
mod delivery;
pub mod handover;
mod rest;
mod routing;
mod tap;
mod timer;

use std::{
    collections::VecDeque,
    future::poll_fn,
    io,
    sync::{Arc, atomic::Ordering},
    task::Poll,
    time::Duration,
};

use bytes::{Buf, BytesMut};
use futures_util::future::BoxFuture;
use moorfall_core::{
    Message, Outgoing, Queued, Time,
    blueprint::Act,
    measure::Measure,
    router::{Retained, RetainedWalk, Route, RouteCache},
    session::{Action, Ended, Handed, Keep, NotAccepted, ReasonKind, Refusal, Routed, Session, Verdict},
};
use moorfall_live::{counters::Counts, ears::Wanted, facts::Fact, topics::hierarchy as topics};
use moorfall_wire::{PacketId, PacketType, QoS, TopicName};
use tokio::time::{Instant, timeout};

use self::{
    handover::Handover,
    tap::{Known, Tap},
    timer::Timer,
};
use crate::{
    broker::Broker,
    judge::Rights,
    listeners::{
        inbox::Inbox,
        origin::{Acting, Arrived, Origin},
        seats::Seat,
        stream::Stream,
    },
    notes,
    random::random_text,
    sessions::{
        journal::Promise,
        record::{Link, RetainedDue, SessionRecord, SignedInBy, Walk},
    },
};

/// Bytes that may wait to be written before no more are made: beyond it the client's own slowness holds back what
/// it is sent and what is read from it.
const WRITE_AHEAD: usize = 64 * 1024;

/// So much may arrive of a client while it is found out who it is, bytes.
const FIRST_READ: usize = 2 * 1024;

/// How long one connection may have a thread at a time, about: whoever waits for the thread waits no longer for each.
const TURN: Duration = Duration::from_millis(1);

/// Packets and actions between two looks at the clock.
const STEPS: u32 = 8;

/// How long one connection may have a thread, turn after turn, when others may wait for it.
const BUSY: Duration = Duration::from_micros(250);

/// How long the last bytes may take to leave.
const FAREWELL: Duration = Duration::from_millis(800);

/// Serves one connection to its end. What it is holds no more than a pointer to it, once it has begun.
pub fn serve(broker: Arc<Broker>, arrived: Arrived) -> impl Future<Output = ()> {
    let Arrived { stream, origin, seat } = arrived;
    let limits = Arc::clone(&origin.listener.limits);
    let mut session = Session::new(limits, format!("assigned-{}", random_text(12)), origin.at);
    session.set_broker_name(Arc::clone(&broker.name.public));
    let handover = match &origin.acting {
        Some(Acting::Bridge { handover, .. } | Acting::Derived { handover }) => {
            session.hand_over();
            Some(Arc::clone(handover))
        }
        _ => None,
    };
    let connection = Connection {
        broker,
        stream,
        session,
        origin,
        seat,
        record: None,
        link: None,
        signed_in_by: SignedInBy::Nothing,
        user_name: String::new(),
        routes: RouteCache::default(),
        run: Vec::new(),
        run_answers: Vec::new(),
        published: None,
        run_route: None,
        pending: VecDeque::new(),
        handover,
        handed: VecDeque::new(),
        held: 0,
        walking: None,
        retained_due: VecDeque::new(),
        subscribing: Subscribing::No,
        answers: VecDeque::new(),
        tap: Tap::default(),
        writing: Vec::new(),
        counts: Counts::default(),
        farewell: None,
        checking: None,
        turn: Time::default(),
        steps: 0,
    };
    run(Box::new(connection))
}

/// Who a client is, and what it has shown for it.
type Checked = (Verdict, SignedInBy);

/// What is known of the topic that was published to last, so that it need not be looked up again.
struct Published {
    topic: TopicName,
    /// Whether its messages are wanted inside.
    wanted: Wanted,
    /// The way to it in the live hierarchy; there may be no room for it.
    path: Option<topics::Path>,
}

struct Connection {
    broker: Arc<Broker>,
    stream: Stream,
    session: Session,
    origin: Origin,
    /// Given back when the connection is over.
    seat: Seat,
    /// Present once the client is accepted.
    record: Option<Arc<SessionRecord>>,
    link: Option<Arc<Link>>,
    signed_in_by: SignedInBy,
    /// The user name that the client gave; empty if none.
    user_name: String,
    routes: RouteCache<Arc<SessionRecord>>,
    /// Messages of the client that follow each other on one topic at one QoS and were not handed on yet.
    run: Vec<Arc<Message>>,
    /// What the session is told of them when they are handed on, each with its place in the run.
    run_answers: Vec<(usize, PacketId)>,
    /// The topic that was published to last.
    published: Option<Box<Published>>,
    /// To whom they go.
    run_route: Option<Arc<Route<Arc<SessionRecord>>>>,
    /// Taken from the queue and not sent yet, because the client has as much as it takes.
    pending: VecDeque<Queued>,
    /// Where messages go that are not written; present if the client is a bridge.
    handover: Option<Arc<Handover>>,
    /// Messages on their way there.
    handed: VecDeque<Handed>,
    /// Messages in `pending`.
    held: usize,
    /// The new subscription whose retained messages these are, which were never in the queue.
    walking: Option<Box<Walking>>,
    /// Filters whose retained messages are still to be looked up. One is looked up when all before it is sent, and
    /// none stands here twice, so that a client can't make the broker hold more than the retained messages of one
    /// filter.
    retained_due: VecDeque<RetainedDue>,
    /// The commit that SUBACK of the newest subscriptions waits for; their retained messages come after it.
    subscribing: Subscribing,
    /// What the session is told when a promise is kept, in order.
    answers: VecDeque<(Option<Arc<Promise>>, Awaited)>,
    /// Hands packets to whoever looks at them.
    tap: Tap,
    /// What is written while somebody does.
    writing: Vec<u8>,
    /// Counted and not passed on yet.
    counts: Counts,
    /// Why the session ended, once it has.
    farewell: Option<Box<Ended>>,
    /// Present while it is found out who the client is.
    checking: Option<BoxFuture<'static, Checked>>,
    /// Since when it has the thread, about.
    turn: Time,
    /// Packets handled and actions carried out.
    steps: u32,
}

/// The retained messages of a new subscription on their way.
struct Walking {
    of: RetainedDue,
    place: RetainedWalk,
    /// As they were when a step was made last, and when that was: what was published since comes by the queue, later.
    retained: Option<(Time, Retained)>,
}

/// Whether a kept session waits for its SUBACK.
#[derive(PartialEq)]
enum Subscribing {
    No,
    /// The commit is asked for next.
    Asking,
    Until(u64),
}

/// What a session waits for.
enum Awaited {
    /// An answer to a message that arrived then.
    Routed(QoS, PacketId, Routed, Time),
    Committed(u64),
}

/// What the task waited for.
enum Event {
    Read(io::Result<usize>),
    Written(io::Result<usize>),
    Checked(Checked),
    Woken,
    Due,
    Stopping,
}

/// Serves it to its end.
async fn run(mut connection: Box<Connection>) {
    let mut inbox = Inbox::default();
    let mut timer = Timer::default();
    // Since when it has not rested, or others had their turn.
    let mut busy_since = connection.broker.now();
    loop {
        connection.work(&mut inbox).await;
        connection.write_at_once();
        connection.pass_on_counts();
        if connection.session.is_closed() {
            break;
        }
        let event = match connection.resting_record() {
            Some(record) => {
                let event;
                (connection, event) = rest::rest(connection, &record, &mut inbox, &mut timer).await;
                event
            }
            None => {
                // Whoever takes what is written as fast as it is made never waits by itself.
                let now = connection.broker.now();
                if now - busy_since > BUSY {
                    tokio::task::yield_now().await;
                    busy_since = connection.broker.now();
                }
                connection.wait(&mut inbox, &mut timer).await
            }
        };
        let now = connection.broker.now();
        connection.turn = now;
        connection.handle(event, &inbox.bytes, now);
        connection.act().await;
        connection.count_first_bytes(&inbox.bytes);
    }
    connection.leave();
    // What is left, a DISCONNECT or a refusal, is sent if the client takes it soon.
    let Connection { stream, session, .. } = &mut *connection;
    let _ = timeout(FAREWELL, say_goodbye(stream, session.outgoing())).await;
}

impl Connection {
    /// Does what is to be done now.
    async fn work(&mut self, inbox: &mut Inbox) {
        if self.tap.is_stale(&self.broker.live.ladders) {
            self.renew_tap(&inbox.bytes);
        }
        self.handle_inbox(inbox).await;
        self.settle().await;
        self.deliver().await;
    }

    fn handle(&mut self, event: Event, buffer: &BytesMut, now: Time) {
        match event {
            Event::Read(Ok(0)) => {
                self.session.handle_connection_lost(now, Ended::Closed);
            }
            Event::Read(Ok(count)) => {
                self.counts.bytes_in += count as u64;
                self.tap.read(&buffer[buffer.len() - count..], self.session.version(), now);
                if let Some(link) = &self.link {
                    link.heard.store(now.as_micros(), Ordering::Relaxed);
                }
            }
            Event::Written(Ok(count)) if count > 0 => {
                self.counts.bytes_out += count as u64;
                self.tap.written(&self.writing[..count.min(self.writing.len())], self.session.version(), now);
            }
            Event::Written(Ok(_)) => self.session.handle_connection_lost(now, Ended::Closed),
            Event::Read(Err(error)) | Event::Written(Err(error)) => {
                self.session.handle_connection_lost(now, Ended::Broken(error.to_string()));
            }
            Event::Checked((verdict, by)) => {
                self.checking = None;
                self.signed_in_by = by;
                self.session.handle_verdict(verdict);
            }
            Event::Woken => self.end_if_asked(now),
            Event::Due => self.session.handle_timeout(now),
            Event::Stopping => {
                self.session.end(now, Ended::Stopping, false);
            }
        }
    }

    fn due(&self) -> Option<Instant> {
        self.session.poll_timeout().map(|time| self.broker.common.clock.instant(time))
    }

    /// Waits until something is to be done. Nothing is lost when one thing comes before another.
    async fn wait(&mut self, inbox: &mut Inbox, timer: &mut Timer) -> Event {
        let due = self.due();
        // Whoever goes away while it is found out who they are is noticed.
        let wants_more = self.session.wants_packets() || self.checking.is_some() && inbox.bytes.len() < FIRST_READ;
        // It is gone once it is written.
        self.writing.clear();
        if self.tap.is_open() {
            copy(self.session.outgoing(), &mut self.writing);
        }
        let is_accepted = self.record.is_some();
        let Self { checking, session, record, stream, broker, .. } = self;
        let outgoing = session.outgoing();
        let mut flushed = false;
        let any = poll_fn(|context| {
            if let Some(checking) = checking
                && let Poll::Ready(checked) = checking.as_mut().poll(context)
            {
                return Poll::Ready(Event::Checked(checked));
            }
            if record.as_ref().is_some_and(|record| record.bell.poll(context).is_ready()) {
                return Poll::Ready(Event::Woken);
            }
            if timer.poll_until(due, context).is_ready() {
                return Poll::Ready(Event::Due);
            }
            if outgoing.has_remaining()
                && let Poll::Ready(written) = stream.poll_write(context, outgoing)
            {
                return Poll::Ready(Event::Written(written));
            }
            if !flushed {
                let held_back = stream.holds_back();
                match stream.poll_flush(context) {
                    // It may rest now.
                    Poll::Ready(Ok(())) if held_back => return Poll::Ready(Event::Woken),
                    Poll::Ready(Ok(())) => flushed = true,
                    Poll::Ready(Err(error)) => return Poll::Ready(Event::Written(Err(error))),
                    Poll::Pending => {}
                }
            }
            if wants_more && outgoing.remaining() < WRITE_AHEAD {
                return inbox.poll_fill(stream, context, is_accepted).map(Event::Read);
            }
            Poll::Pending
        });
        if is_accepted {
            // Whoever stops the service asks each session to end.
            return any.await;
        }
        tokio::select! {
            event = any => event,
            () = broker.common.stopping.cancelled() => Event::Stopping,
        }
    }

    /// Counts what a client that is not accepted yet holds: its first packet shares the memory of the buffer until then.
    fn count_first_bytes(&mut self, buffer: &BytesMut) {
        if self.session.is_open() {
            self.seat.hold(0);
        } else if self.session.is_waiting() && !self.seat.hold(buffer.capacity()) {
            self.session.turn_away(NotAccepted::ConnectingBytes, buffer);
        }
    }

    fn end_if_asked(&mut self, now: Time) {
        if let Some(ending) = self.link.as_ref().and_then(|link| link.ending()) {
            self.session.end(now, ending.why.clone(), ending.discard);
        }
    }

    /// Handles every whole packet in the buffer, as long as there is room for answers.
    async fn handle_inbox(&mut self, inbox: &mut Inbox) {
        // Everything in the buffer had arrived by then.
        let now = self.turn;
        self.look_at_rights(now);
        if self.session.has_actions() {
            self.act().await;
        }
        loop {
            self.handle_packets(now, &mut inbox.bytes).await;
            let has_answers = !self.run_answers.is_empty();
            self.hand_on_run();
            // The answers may have made room for more of what has arrived.
            if !has_answers || !self.takes_more() {
                break;
            }
        }
        if inbox.bytes.is_empty() {
            // The memory of an idle connection is given back.
            self.run = Vec::new();
        }
        inbox.settle();
    }

    fn takes_more(&mut self) -> bool {
        self.session.wants_packets() && self.session.outgoing().remaining() < WRITE_AHEAD
    }

    async fn handle_packets(&mut self, now: Time, buffer: &mut BytesMut) {
        while self.takes_more() {
            self.breathe().await;
            while let Some((packet, count)) = self.session.handle_plain_acknowledgements(now, buffer) {
                self.count_packets(packet, count);
            }
            if self.session.has_actions() {
                self.act().await;
            }
            if !self.session.wants_packets() {
                break;
            }
            if self.takes_runs()
                && let Some(run) = self.session.take_run(now, buffer)
            {
                self.route_run(run);
                // It may have been long.
                self.steps |= STEPS - 1;
                continue;
            }
            match self.session.next_packet(buffer) {
                Ok(None) => break,
                Ok(Some(packet)) => {
                    self.count_packets(packet.packet_type(), 1);
                    self.session.handle_packet(now, packet);
                }
                Err(error) => self.session.handle_decode_error(now, &error),
            }
            self.act().await;
        }
    }

    fn count_packets(&self, packet: PacketType, count: u64) {
        let counters = &self.broker.live.counters;
        counters.count_by(Measure::PacketsIn, packet, count);
        if matches!(packet, PacketType::PubAck | PacketType::PubComp) {
            counters.count(Measure::MessagesAcknowledged, count);
        }
    }

    /// Ladders were begun, or have ended.
    fn renew_tap(&mut self, buffer: &BytesMut) {
        let now = self.broker.now();
        let known = self.record.as_deref().map(known);
        let (version, broker) = (self.session.version(), &self.broker);
        let waiting = (&buffer[..], &*self.session.outgoing());
        self.tap.renew(&broker.live.ladders, (self.origin.address, known), waiting, (version, now));
    }

    /// What the session may do may have changed.
    fn look_at_rights(&mut self, now: Time) {
        let Some(record) = self.record.as_ref().filter(|record| record.take_stale()) else { return };
        if self.session.access().is_none_or(|access| access.policy().is_none()) {
            return;
        }
        match self.broker.rights(&record.identity, &record.client_id) {
            Rights::Unlimited => {}
            Rights::Bound(access) => {
                let is_changed = record.set_access(&access);
                self.session.change_access(now, access);
                if is_changed {
                    self.broker.sessions.change_conditions(record, self.session.subscriptions());
                }
            }
            Rights::None(why) => self.session.end(now, Ended::NoEntry(why), false),
        }
    }

    /// Tells the session what has become safe.
    async fn settle(&mut self) {
        // Looked at once for all that have become safe.
        let mut now = None;
        while let Some((_, answer)) =
            self.answers.pop_front_if(|(promise, _)| promise.as_ref().is_none_or(|promise| promise.is_kept()))
        {
            let now = *now.get_or_insert_with(|| self.broker.now());
            match answer {
                Awaited::Routed(qos, id, routed, arrived) => {
                    let counters = &self.broker.live.counters;
                    counters.time(Measure::PublishToAcknowledge, now - arrived, 1);
                    self.session.handle_routed(qos, id, routed);
                }
                Awaited::Committed(number) => {
                    if self.subscribing == Subscribing::Until(number) {
                        self.subscribing = Subscribing::No;
                    }
                    self.session.handle_committed(now, number);
                }
            }
            self.act().await;
        }
    }

    /// Gives others their turn when this one has had the thread for long, whatever its client has sent. Looking at the
    /// clock costs more than most of what is done, so it is looked at now and then.
    async fn breathe(&mut self) {
        self.steps += 1;
        if self.steps.is_multiple_of(STEPS) {
            let now = self.broker.now();
            if now - self.turn > TURN {
                tokio::task::yield_now().await;
                self.turn = self.broker.now();
            }
        }
    }

    fn note_refusal(&mut self, refusal: Refusal) {
        self.counts.refused += refusal.count;
        self.broker.live.counters.count_by(Measure::Refused, ReasonKind::from(&refusal.reason), refusal.count);
        if let Some(message) = refusal.message.as_ref().filter(|_| self.broker.live.recorder.is_on()) {
            let Message { topic, qos, retain, payload, .. } = &**message;
            let origin = || self.origin_of(topic, *qos, *retain, payload);
            self.broker.live.recorder.refuse(message, &refusal, origin);
        }
        if let Some(record) = &self.record {
            self.broker.live.refusals.note_refusal(&record.identity, &record.client_id, &refusal, self.broker.now());
            record.note_refusal(&refusal);
            // Of refused messages there may be many; they are counted.
            let is_event = refusal.act == Act::Subscribe;
            if is_event || notes::wants_frequent() {
                let fact = Fact::Refused { client: record.named(), refusal };
                if is_event {
                    self.broker.live.events.note(&fact, self.broker.now());
                }
                notes::write(&fact);
            }
        }
    }

    /// Carries out what the session wants.
    async fn act(&mut self) {
        while let Some(action) = self.session.poll_action() {
            self.breathe().await;
            match action {
                Action::Authenticate(credentials) => self.checking = Some(self.authenticate(*credentials)),
                Action::Admit { client_id, identity, clean_start, expiry } => {
                    Box::pin(self.admit(client_id.to_string(), identity, clean_start, expiry)).await;
                    self.turn = self.broker.now();
                }
                Action::Route { message, packet_id } => self.route(message, packet_id),
                Action::Subscribe { filter, granted, send_retained } => self.subscribe(filter, granted, send_retained),
                Action::Unsubscribe(filter) => self.unsubscribe(&filter),
                Action::Keep(keep) => self.keep(keep),
                Action::Commit(number) => {
                    if self.subscribing == Subscribing::Asking {
                        self.subscribing = Subscribing::Until(number);
                    }
                    let promise = self.record.as_ref().map(|record| self.broker.sessions.journal.promise(record));
                    self.answers.push_back((promise, Awaited::Committed(number)));
                }
                Action::Acknowledged { journey, reason } => {
                    if let Some(record) = &self.record {
                        self.broker.live.recorder.answered(journey, record.key, self.broker.now(), reason);
                    }
                }
                Action::Refused(refusal) => self.note_refusal(*refusal),
                Action::Close(why) => self.farewell = Some(why),
            }
        }
    }

    /// Keeps this, and what is to be kept right after it.
    fn keep(&mut self, keep: Keep) {
        let Some(record) = &self.record else { return };
        let mut journal = self.broker.sessions.journal.open();
        journal.keep(record.key, keep);
        while let Some(keep) = self.session.poll_keep() {
            journal.keep(record.key, keep);
        }
    }

    fn count_subscriptions(&self) {
        if let Some(record) = &self.record {
            record.subscriptions.store(self.session.subscription_count(), Ordering::Relaxed);
        }
    }

    fn pass_on_counts(&mut self) {
        let Counts { bytes_in, bytes_out, .. } = self.counts;
        let counters = &self.broker.live.counters;
        if bytes_in > 0 {
            counters.count(Measure::BytesIn, bytes_in);
        }
        if bytes_out > 0 {
            counters.count(Measure::BytesOut, bytes_out);
        }
        for (packet, count) in self.session.outgoing().take_sent() {
            counters.count_by(Measure::PacketsOut, packet, count.into());
        }
        self.origin.listener.counters.add(&self.counts);
        if let Some(record) = &self.record {
            record.counters.add(&self.counts);
            record.in_flight.store(self.session.in_flight(), Ordering::Relaxed);
            record.held.store(self.held, Ordering::Relaxed);
            let drift = self.session.take_drift();
            if !drift.is_empty() {
                self.broker.live.drifts.note_all(&record.identity, drift, self.broker.now());
            }
        }
        self.counts = Counts::default();
    }

    /// The session waits for its client, or is over; a will that is due was routed before.
    fn leave(&mut self) {
        // A will may have joined the run.
        self.hand_on_run();
        let why = self.farewell.take().map_or(Ended::Stopping, |why| *why);
        if self.tap.is_open() {
            let now = self.broker.now();
            self.tap.decide(&self.broker.live.ladders, self.record.as_deref().map(known), now);
            self.writing.clear();
            copy(self.session.outgoing(), &mut self.writing);
            self.tap.written(&self.writing, self.session.version(), now);
        }
        let address = self.origin.address;
        let Some(record) = self.record.take() else {
            return notes::note(
                &self.broker.live,
                self.broker.now(),
                &Fact::NotAccepted { user_name: std::mem::take(&mut self.user_name), address, why },
            );
        };
        let left = std::mem::take(&mut self.pending);
        let walk = match self.walking.take() {
            Some(walking) => {
                let Walking { of, place, .. } = *walking;
                Some(Walk { of, place, left })
            }
            None => {
                record.put_back(left.into_iter());
                None
            }
        };
        if let Some(parting) = self.session.part() {
            record.note_end(self.broker.now(), why.clone());
            self.broker.sessions.part(&record, parting, std::mem::take(&mut self.retained_due), walk);
        }
        notes::note(&self.broker.live, self.broker.now(), &Fact::Disconnected { client: record.named(), address, why });
    }
}

/// Copies what waits to be written.
fn copy(outgoing: &Outgoing, into: &mut Vec<u8>) {
    let mut slices = [io::IoSlice::new(&[]); 64];
    let count = outgoing.chunks_vectored(&mut slices);
    slices[..count].iter().for_each(|slice| into.extend_from_slice(slice));
}

/// Who a session is, for ladders.
fn known(record: &SessionRecord) -> Known {
    Known { client_id: record.client_id.as_str().into(), identity: Arc::clone(&record.identity) }
}

async fn say_goodbye(stream: &mut Stream, outgoing: &mut Outgoing) -> io::Result<()> {
    while outgoing.has_remaining() && poll_fn(|context| stream.poll_write(context, outgoing)).await? > 0 {}
    poll_fn(|context| stream.poll_flush(context)).await?;
    poll_fn(|context| stream.poll_shutdown(context)).await?;
    // Closing while bytes are unread would reset the connection, and the client would miss what was just sent.
    let mut rest = BytesMut::new();
    while poll_fn(|context| stream.poll_read(context, &mut rest, FIRST_READ)).await? > 0 {
        rest.clear();
    }
    Ok(())
}
