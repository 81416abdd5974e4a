//! One MQTT connection: a task that moves bytes, carries out the session's actions and drains its queue.

use std::{
    collections::VecDeque,
    future::{pending, poll_fn},
    io,
    net::SocketAddr,
    sync::{Arc, atomic::Ordering},
    task::Poll,
    time::Duration,
};

use bytes::{Buf, BytesMut};
use moorfall_core::{
    Message, Outgoing, Queued, Run, Time,
    router::{Recipient, Route, RouteCache},
    session::{Action, Credentials, Granted, Keep, Routed, Session, Undelivered, Verdict},
};
use moorfall_store::{SessionRow, SubscriptionRow};
use moorfall_wire::{Frame, Packet, PacketId, QoS, ReasonCode, TopicFilter, TopicName};
use tokio::time::{sleep_until, timeout};

use crate::{
    broker::{Broker, Seat, Waiting},
    counters::Batch,
    data_folder::random_text,
    drift::RefusalNote,
    journal::Promise,
    listener::Listener,
    registry::{Newcomer, NotAdmitted, Rights},
    session_record::{Link, RetainedDue, SessionRecord, Walk},
    stream::Stream,
    topics,
};

/// Bytes that may wait to be written before no more are made: beyond it the client's own slowness holds back what
/// it is sent and what is read from it.
const WRITE_AHEAD: usize = 64 * 1024;

/// Deliveries taken from the queue at a time.
const DELIVERIES: usize = 1_024;

/// The least and the most that is read at a time, bytes.
const READ: (usize, usize) = (2 * 1024, 64 * 1024);

/// How long the last bytes may take to leave.
const FAREWELL: Duration = Duration::from_millis(800);

/// Where a connection came from.
pub(crate) struct Origin {
    pub(crate) address: SocketAddr,
    pub(crate) listener: Arc<Listener>,
    /// When it was accepted, before TLS or WebSocket took their time.
    pub(crate) at: Time,
}

/// Serves one connection to its end.
pub(crate) async fn serve(broker: Arc<Broker>, mut stream: Stream, origin: Origin, seat: Seat) {
    let limits = Arc::clone(&origin.listener.limits);
    let session = Session::new(limits, format!("assigned-{}", random_text(12)), origin.at);
    let mut connection = Connection {
        broker,
        session,
        origin,
        seat,
        record: None,
        link: None,
        token: None,
        user_name: String::new(),
        routes: RouteCache::default(),
        run: Vec::new(),
        noted: None,
        run_route: None,
        pending: VecDeque::new(),
        held: 0,
        walking: None,
        retained_due: VecDeque::new(),
        subscribing: Subscribing::No,
        answers: VecDeque::new(),
        batch: Batch::default(),
        farewell: None,
    };
    connection.run(&mut stream).await;
}

struct Connection {
    broker: Arc<Broker>,
    session: Session,
    origin: Origin,
    /// Given back when the connection is over.
    seat: Seat,
    /// Present once the client is let in.
    record: Option<Arc<SessionRecord>>,
    link: Option<Arc<Link>>,
    /// The token that the client signed in by, if it did.
    token: Option<String>,
    /// The user name that the client gave; empty if none.
    user_name: String,
    routes: RouteCache<Arc<SessionRecord>>,
    /// Messages of the client that follow each other on one topic at one QoS and were not handed on yet.
    run: Vec<Arc<Message>>,
    /// The topic that was published to last, in the live hierarchy.
    noted: Option<(TopicName, topics::Path)>,
    /// To whom they go.
    run_route: Option<Arc<Route<Arc<SessionRecord>>>>,
    /// Taken from the queue and not sent yet, because the client has as much as it takes.
    pending: VecDeque<Queued>,
    /// Messages in `pending`.
    held: usize,
    /// The new subscription whose retained messages these are, which were never in the queue.
    walking: Option<RetainedDue>,
    /// Filters whose retained messages are still to be looked up. One is looked up when all before it is sent, and
    /// none stands here twice, so that a client can't make the broker hold more than the retained messages of one
    /// filter.
    retained_due: VecDeque<RetainedDue>,
    /// The commit that SUBACK of the newest subscriptions waits for; their retained messages come after it.
    subscribing: Subscribing,
    /// What the session is told when a promise is kept, in order.
    answers: VecDeque<(Option<Arc<Promise>>, Answer)>,
    /// Counted and not passed on yet.
    batch: Batch,
    /// Why the session ended, once it has.
    farewell: Option<(String, bool)>,
}

/// Messages of one run at most.
const RUN: usize = 1_024;

/// Whether a kept session waits for its SUBACK.
#[derive(PartialEq)]
enum Subscribing {
    No,
    /// The commit is asked for next.
    Asking,
    Until(u64),
}

/// What a session waits for.
enum Answer {
    Routed(QoS, PacketId, Routed),
    Committed(u64),
}

/// What the task waited for.
enum Event {
    Read(io::Result<usize>),
    Written(io::Result<usize>),
    Woken,
    Due,
    Stopping,
}

impl Connection {
    async fn run(&mut self, stream: &mut Stream) {
        let mut buffer = BytesMut::new();
        let mut read_size = READ.0;
        loop {
            self.handle_buffer(&mut buffer).await;
            self.settle().await;
            self.deliver().await;
            self.pass_on_counts();
            if self.session.is_closed() {
                break;
            }
            let event = self.wait(stream, &mut buffer, read_size).await;
            let now = self.broker.clock.now();
            match event {
                Event::Read(Ok(0)) => {
                    self.session.handle_connection_lost(now, "the client closed the connection".into());
                }
                Event::Read(Ok(count)) => {
                    self.batch.bytes_in += count as u64;
                    // The amount follows what the client sends, so that idle connections hold little.
                    if count >= read_size {
                        read_size = (read_size * 2).min(READ.1);
                    } else if count < read_size / 4 {
                        read_size = (read_size / 2).max(READ.0);
                    }
                }
                Event::Written(Ok(count)) if count > 0 => self.batch.bytes_out += count as u64,
                Event::Written(Ok(_)) => self.session.handle_connection_lost(now, "the connection is closed".into()),
                Event::Read(Err(error)) | Event::Written(Err(error)) => {
                    self.session.handle_connection_lost(now, format!("the connection broke: {error}"));
                }
                Event::Woken => self.end_if_asked(now),
                Event::Due => self.session.handle_timeout(now),
                Event::Stopping => {
                    self.session.end(now, ReasonCode::ServerShuttingDown, "the service is stopping".into(), false);
                }
            }
            self.act().await;
        }
        self.leave();
        // What is left, a DISCONNECT or a refusal, is sent if the client takes it soon.
        let _ = timeout(FAREWELL, say_goodbye(stream, self.session.outgoing())).await;
    }

    /// Waits until something is to be done. Nothing is lost when one branch wins over another.
    async fn wait(&mut self, stream: &mut Stream, buffer: &mut BytesMut, read_size: usize) -> Event {
        let due = self.session.poll_timeout().map(|time| self.broker.clock.instant(time));
        let wants_more = self.session.wants_packets();
        let outgoing = self.session.outgoing();
        let mut flushed = false;
        let io = poll_fn(|context| {
            if outgoing.has_remaining()
                && let Poll::Ready(written) = stream.poll_write(context, outgoing)
            {
                return Poll::Ready(Event::Written(written));
            }
            if !flushed {
                match stream.poll_flush(context) {
                    Poll::Ready(Ok(())) => flushed = true,
                    Poll::Ready(Err(error)) => return Poll::Ready(Event::Written(Err(error))),
                    Poll::Pending => {}
                }
            }
            if wants_more && outgoing.remaining() < WRITE_AHEAD {
                return stream.poll_read(context, buffer, read_size).map(Event::Read);
            }
            Poll::Pending
        });
        tokio::select! {
            event = io => event,
            () = woken(self.record.as_deref()) => Event::Woken,
            () = sleep(due) => Event::Due,
            () = self.broker.stopping.cancelled() => Event::Stopping,
        }
    }

    fn end_if_asked(&mut self, now: Time) {
        if let Some(ending) = self.link.as_ref().and_then(|link| link.ending()) {
            self.session.end(now, ending.reason, ending.words.clone(), ending.discard);
        }
    }

    /// Handles every whole packet in the buffer, as long as there is room for answers.
    async fn handle_buffer(&mut self, buffer: &mut BytesMut) {
        // Everything in the buffer has arrived by now.
        let now = self.broker.clock.now();
        self.look_at_rights(now);
        if self.session.has_actions() {
            self.act().await;
        }
        while self.session.wants_packets() && self.session.outgoing().remaining() < WRITE_AHEAD {
            self.session.handle_plain_pubacks(now, buffer);
            if self.session.has_actions() {
                self.act().await;
            }
            if !self.session.wants_packets() {
                break;
            }
            let decoded = Frame::split(buffer, self.session.packet_limit())
                .and_then(|frame| frame.map(|frame| Packet::decode(frame, self.session.version())).transpose());
            match decoded {
                Ok(None) => break,
                Ok(Some(packet)) => self.session.handle_packet(now, packet),
                Err(error) => self.session.handle_decode_error(now, &error),
            }
            self.act().await;
        }
        self.hand_on_run();
        if buffer.is_empty() {
            // The memory of an idle connection is given back.
            *buffer = BytesMut::new();
            self.run = Vec::new();
        }
    }

    /// What the session may do may have changed.
    fn look_at_rights(&mut self, now: Time) {
        let Some(record) = self.record.as_ref().filter(|record| record.take_stale()) else { return };
        if self.session.access().is_none_or(|access| access.policy().is_none()) {
            return;
        }
        match self.broker.rights(&record.identity, &record.client_id) {
            Rights::Unlimited => {}
            Rights::Bound(access) => self.session.change_access(now, access),
            Rights::None(words) => self.session.end(now, ReasonCode::NotAuthorized, words, false),
        }
    }

    /// Tells the session what has become safe.
    async fn settle(&mut self) {
        while let Some((_, answer)) =
            self.answers.pop_front_if(|(promise, _)| promise.as_ref().is_none_or(|promise| promise.is_kept()))
        {
            match answer {
                Answer::Routed(qos, id, routed) => self.session.handle_routed(qos, id, routed),
                Answer::Committed(number) => {
                    if self.subscribing == Subscribing::Until(number) {
                        self.subscribing = Subscribing::No;
                    }
                    self.session.handle_committed(self.broker.clock.now(), number);
                }
            }
            self.act().await;
        }
    }

    /// Moves deliveries from the queue to the client, as many as it takes.
    async fn deliver(&mut self) {
        let Some(record) = self.record.clone() else { return };
        let now = self.broker.clock.now();
        while self.session.is_open() && self.session.outgoing().remaining() < WRITE_AHEAD {
            if self.pending.is_empty() && !self.refill(&record) {
                break;
            }
            let mut front = self.pending.pop_front();
            if self.walking.is_some()
                && let Some(Queued::One(delivery)) = &mut front
                && delivery.qos > QoS::AtMostOnce
                && record.is_kept()
                && self.session.room_for(delivery.qos) > 0
            {
                delivery.sequence = record.next_sequence();
                self.broker.journal.open().file(record.key, delivery);
            }
            let handled = self.session.handle_queued(now, &mut front, WRITE_AHEAD);
            self.held -= handled.sent as usize + handled.withheld.len();
            self.batch.messages_out += handled.sent;
            for Undelivered { why, message } in handled.withheld {
                self.batch.withheld += 1;
                record.withheld.fetch_add(1, Ordering::Relaxed);
                tracing::debug!(client = record.client_id, topic = %message.topic, %why, "withheld");
            }
            if let Some(front) = front {
                // The client takes no more now.
                self.pending.push_front(front);
                break;
            }
        }
        self.act().await;
    }

    /// Takes what is to be sent next: retained messages of new subscriptions first, then what was routed meanwhile.
    /// Gives whether there may be more.
    fn refill(&mut self, record: &SessionRecord) -> bool {
        if let Some((filter, granted)) = self.walking.take() {
            self.keep_subscription(record, filter, granted);
        }
        if self.subscribing == Subscribing::No
            && let Some((filter, granted)) = self.retained_due.pop_front()
        {
            let retained = self.broker.router.retained(&filter, self.broker.clock.now());
            let deliveries = retained.into_iter().map(|message| granted.retained_delivery(message));
            self.pending = deliveries.map(Queued::One).collect();
            self.held = self.pending.len();
            self.walking = Some((filter, granted));
            return true;
        }
        record.take(DELIVERIES, &mut self.pending);
        self.held = self.pending.iter().map(Queued::len).sum();
        if self.pending.is_empty() && self.pending.capacity() > 64 {
            // The memory of a burst or of a long walk is given back.
            self.pending = VecDeque::new();
        }
        !self.pending.is_empty()
    }

    /// Carries out what the session wants.
    async fn act(&mut self) {
        while let Some(action) = self.session.poll_action() {
            match action {
                Action::Authenticate(credentials) => {
                    let stopping = self.broker.stopping.clone();
                    // What is needed once is in memory of its own; a connection's task shall be small for its life.
                    let verdict = tokio::select! {
                        verdict = Box::pin(self.authenticate(credentials)) => verdict,
                        () = stopping.cancelled() => return,
                    };
                    self.session.handle_verdict(verdict);
                }
                Action::Admit { client_id, identity, clean_start, expiry } => {
                    Box::pin(self.admit(client_id.to_string(), identity, clean_start, expiry)).await;
                }
                Action::Route { message, packet_id } => self.route(message, packet_id),
                Action::Subscribe { filter, granted, send_retained } => self.subscribe(filter, granted, send_retained),
                Action::Unsubscribe(filter) => self.unsubscribe(&filter),
                Action::Keep(keep) => self.keep(keep),
                Action::Commit(number) => {
                    if self.subscribing == Subscribing::Asking {
                        self.subscribing = Subscribing::Until(number);
                    }
                    let promise = self.record.as_ref().map(|record| self.broker.journal.promise(record));
                    self.answers.push_back((promise, Answer::Committed(number)));
                }
                Action::Refused(words) => {
                    self.batch.refused += 1;
                    if let Some(record) = &self.record {
                        tracing::debug!(client = record.client_id, "{words}");
                        let note = || RefusalNote { client_id: record.client_id.clone() };
                        let key = (record.identity.to_string(), words.clone());
                        self.broker.refusals_seen.note(key, 1, note, |_| {});
                        record.note_refusal(words);
                    }
                }
                Action::Close { words, failure } => self.farewell = Some((words, failure)),
            }
        }
    }

    /// Finds out who the client is. Addresses that try too often are refused, and those that fail too often wait.
    async fn authenticate(&mut self, credentials: Credentials) -> Verdict {
        self.user_name = credentials.user_name.as_deref().unwrap_or_default().to_owned();
        let refused = |reason, words: &str| Verdict::Refused { reason, words: words.to_owned() };
        if let Some(words) = &self.seat.refusal {
            return refused(ReasonCode::QuotaExceeded, words);
        }
        let (broker, limits) = (&self.broker, &self.origin.listener.limits);
        let (address, gatekeeper) = (self.origin.address.ip(), &broker.gatekeeper);
        if !gatekeeper.may_connect(address, broker.clock.now(), limits) {
            return refused(ReasonCode::ConnectionRateExceeded, "too many connections come from this address");
        }
        let wait = gatekeeper.wait(address, broker.clock.now(), limits);
        if !wait.is_zero() {
            tracing::info!(%address, ?wait, "many sign-ins from this address have failed; the next one waits");
            tokio::time::sleep(wait).await;
        }
        let anonymous = self.origin.listener.anonymous;
        let policy = broker.design.policy();
        let Broker { authenticator, directory, tokens, .. } = &**broker;
        let (verdict, token) = authenticator.check(&credentials, anonymous, directory, tokens, &policy).await;
        if matches!(verdict, Verdict::Refused { reason: ReasonCode::BadUserNameOrPassword, .. }) {
            gatekeeper.note_failure(address, broker.clock.now(), limits);
        }
        self.token = token;
        verdict
    }

    async fn admit(&mut self, client_id: String, identity: Arc<str>, clean_start: bool, expiry: u32) {
        let listener = Arc::clone(&self.origin.listener.name);
        let link = Link::new(self.origin.address, listener, self.session.version(), self.token.take());
        let link = Arc::new(link);
        let limits = Arc::clone(&self.origin.listener.limits);
        let newcomer = Newcomer { client_id, identity, clean_start, expiry, limits, link: Arc::clone(&link) };
        let (record, parked) = match self.broker.admit(&newcomer).await {
            Ok(admitted) => admitted,
            Err(why) => return self.not_admitted(&why, &newcomer.client_id),
        };
        self.link = Some(link);
        tracing::info!(client = record.client_id, identity = %record.identity, address = %self.origin.address,
            listener = %self.origin.listener.name, version = %self.session.version(), resumed = parked.is_some(), "connected");
        let was_kept = parked.is_some();
        let state = parked.map(|parked| {
            self.retained_due = parked.retained_due;
            if let Some(walk) = parked.walk {
                self.walking = Some(walk.of);
                self.held = walk.left.len();
                self.pending = walk.left;
            }
            parked.state
        });
        let now = self.broker.clock.now();
        self.session.handle_admitted(now, record.key, state);
        if expiry > 0 || was_kept {
            let row = SessionRow {
                client_id: record.client_id.clone(),
                identity: Arc::clone(&record.identity),
                expiry,
                away_since: None,
                began_at: record.began_at.as_micros(),
                will: self.session.will(now),
            };
            self.broker.journal.open().put_session(record.key, row);
        }
        // Between the check and this moment the identity may have been removed or disabled; from now on such a change
        // finds the session in the registry.
        if !self.broker.directory.may_connect(&record.identity) {
            let words = format!("the identity {} may no longer connect", record.identity);
            self.session.end(now, ReasonCode::NotAuthorized, words, false);
        }
        // Nor does a change of the design.
        record.set_stale();
        self.record = Some(record);
        self.count_subscriptions();
    }

    fn not_admitted(&mut self, why: &NotAdmitted, client_id: &str) {
        let (reason, words) = match why {
            NotAdmitted::InUse => {
                (ReasonCode::NotAuthorized, format!("the client identifier {client_id} is in use by another identity"))
            }
            NotAdmitted::Full => (
                ReasonCode::QuotaExceeded,
                format!("there are {} sessions, as many as may be", self.broker.limits.sessions),
            ),
        };
        self.session.handle_not_admitted(reason, words);
    }

    fn route(&mut self, message: Arc<Message>, packet_id: Option<PacketId>) {
        self.batch.messages_in += 1;
        let route = self.routes.route(&self.broker.router, &message.topic);
        let qos = message.qos;
        // Each topic has a route of its own.
        let same = self.run_route.as_ref().is_some_and(|running| Arc::ptr_eq(running, route))
            && self.run.last().is_some_and(|last| last.qos == qos);
        // What was found for one message of the run holds for the next.
        let plain = self.answers.is_empty()
            && (same && !message.retain || Broker::is_plain(&message, route, self.session.is_kept()));
        let (routed, promise) = if plain {
            let own = |recipient: &&Recipient<_>| recipient.is_own(message.publisher);
            // Nobody asks for the number at QoS 0.
            let count = packet_id.map_or(0, |_| route.recipients.len() - route.recipients.iter().filter(own).count());
            if !same || self.run.len() >= RUN {
                let route = Arc::clone(route);
                self.hand_on_run();
                self.run_route = Some(route);
            }
            self.run.push(message);
            (Routed::To(count), None)
        } else {
            let route = Arc::clone(route);
            self.hand_on_run();
            self.note_topic(&message.topic, 1, message.weight() as u64);
            let waiting = match (&self.record, packet_id) {
                (Some(record), Some(packet_id)) => Some(Waiting { record, packet_id }),
                _ => None,
            };
            self.broker.distribute(&message, &route, waiting, &mut self.batch)
        };
        let Some(id) = packet_id else { return };
        // Acknowledgements leave in the order of the messages ([MQTT-4.6.0-2], [MQTT-4.6.0-3]).
        if promise.is_none() && self.answers.is_empty() {
            self.session.handle_routed(qos, id, routed);
        } else {
            self.answers.push_back((promise, Answer::Routed(qos, id, routed)));
        }
    }

    /// Counts messages of one topic in the live hierarchy.
    fn note_topic(&mut self, topic: &TopicName, messages: u64, bytes: u64) {
        let Some(record) = &self.record else { return };
        let now = self.broker.clock.now();
        if let Some((noted, path)) = &self.noted
            && noted == topic
            && path.note(messages, bytes, &record.identity, now)
        {
            return;
        }
        let path = self.broker.topics.note(topic, messages, bytes, &record.identity, now);
        self.noted = path.map(|path| (topic.detached(), path));
    }

    /// Hands the messages of the run to their recipients.
    fn hand_on_run(&mut self) {
        if let Some(route) = self.run_route.take() {
            let run = Arc::new(Run::new(self.run.drain(..)));
            self.note_topic(run.topic(), run.messages().len() as u64, run.weight() as u64);
            self.broker.distribute_run(&run, route.recipients.iter(), &mut self.batch);
        }
    }

    fn subscribe(&mut self, filter: TopicFilter, granted: Granted, send_retained: bool) {
        let record = self.record.clone().expect("only a client that was let in subscribes");
        self.broker.router.subscribe(record.key, &filter, granted, Arc::clone(&record));
        self.count_subscriptions();
        if let Some((walking, terms)) = &mut self.walking
            && *walking == filter
        {
            *terms = granted;
        }
        if send_retained {
            self.retained_due.retain(|(known, _)| *known != filter);
            self.retained_due.push_back((filter.clone(), granted));
        }
        if record.is_kept() {
            self.subscribing = Subscribing::Asking;
        }
        self.keep_subscription(&record, filter, granted);
    }

    /// Keeps a subscription on disk, with what it is still to be sent.
    fn keep_subscription(&self, record: &SessionRecord, filter: TopicFilter, granted: Granted) {
        if record.is_kept() {
            let due = self.retained_due.iter().chain(&self.walking);
            let retained_due = due.into_iter().any(|(known, _)| *known == filter);
            self.broker.journal.open().subscribe(record.key, SubscriptionRow { filter, granted, retained_due });
        }
    }

    fn unsubscribe(&mut self, filter: &TopicFilter) {
        let record = self.record.clone().expect("only a client that was let in unsubscribes");
        if record.is_kept() {
            self.broker.journal.open().unsubscribe(record.key, filter);
        }
        self.broker.router.unsubscribe(record.key, [filter]);
        self.retained_due.retain(|(known, _)| known != filter);
        self.walking.take_if(|(known, _)| known == filter);
        self.count_subscriptions();
    }

    /// Keeps this, and what is to be kept right after it.
    fn keep(&mut self, keep: Keep) {
        let Some(record) = &self.record else { return };
        let mut journal = self.broker.journal.open();
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
        self.broker.counters.add(&self.batch);
        if let Some(record) = &self.record {
            record.counters.add(&self.batch);
            record.in_flight.store(self.session.in_flight(), Ordering::Relaxed);
            record.held.store(self.held, Ordering::Relaxed);
            let drift = self.session.take_drift();
            if !drift.is_empty() {
                self.broker.drifts.note_all(&record.identity, drift);
            }
        }
        self.batch = Batch::default();
    }

    /// The session waits for its client, or is over; a will that is due was routed before.
    fn leave(&mut self) {
        // A will may have joined the run.
        self.hand_on_run();
        let (words, failure) = self.farewell.take().unwrap_or_else(|| ("the service is stopping".into(), false));
        let address = self.origin.address;
        let Some(record) = self.record.take() else {
            return tracing::info!(user_name = self.user_name, %address, "not let in: {words}");
        };
        let left = std::mem::take(&mut self.pending);
        let walk = match self.walking.take() {
            Some(of) => Some(Walk { of, left }),
            None => {
                record.put_back(left.into_iter());
                None
            }
        };
        if let Some(parting) = self.session.part() {
            self.broker.part(&record, parting, std::mem::take(&mut self.retained_due), walk);
        }
        let (client, identity) = (&record.client_id, &record.identity);
        tracing::info!(client, %identity, %address, failure, "disconnected: {words}");
    }
}

async fn say_goodbye(stream: &mut Stream, outgoing: &mut Outgoing) -> io::Result<()> {
    while outgoing.has_remaining() && poll_fn(|context| stream.poll_write(context, outgoing)).await? > 0 {}
    poll_fn(|context| stream.poll_flush(context)).await?;
    poll_fn(|context| stream.poll_shutdown(context)).await?;
    // Closing while bytes are unread would reset the connection, and the client would miss what was just sent.
    let mut rest = BytesMut::new();
    while poll_fn(|context| stream.poll_read(context, &mut rest, READ.0)).await? > 0 {
        rest.clear();
    }
    Ok(())
}

async fn woken(record: Option<&SessionRecord>) {
    match record {
        Some(record) => record.wake.notified().await,
        None => pending().await,
    }
}

pub(crate) async fn sleep(due: Option<tokio::time::Instant>) {
    match due {
        Some(due) => sleep_until(due).await,
        None => pending().await,
    }
}
