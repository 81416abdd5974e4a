//! One MQTT connection: a task that moves bytes, carries out the session's actions and drains its queue.

use std::{
    collections::VecDeque,
    future::pending,
    io,
    net::SocketAddr,
    sync::{Arc, atomic::Ordering},
    time::Duration,
};

use bytes::{Buf, BytesMut};
use moorfall_core::{
    Delivery, Message, Time,
    router::RouteCache,
    session::{Action, Routed, Session},
};
use moorfall_wire::{Frame, Packet, PacketId, QoS, ReasonCode, SubscriptionOptions, TopicFilter};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::{TcpStream, tcp::ReadHalf},
    time::{sleep_until, timeout},
};

use crate::{
    broker::{Broker, Place},
    counters::Batch,
    data_folder::random_text,
    session_record::SessionRecord,
};

/// Bytes that may wait to be written before no more are made: beyond it the client's own slowness holds back what
/// it is sent and what is read from it.
const WRITE_AHEAD: usize = 64 * 1024;

/// Deliveries taken from the queue at a time.
const DELIVERIES: usize = 64;

/// The least and the most that is read at a time, bytes.
const READ: (usize, usize) = (2 * 1024, 64 * 1024);

/// How long the last bytes may take to leave.
const FAREWELL: Duration = Duration::from_millis(800);

/// Serves one connection to its end.
pub(crate) async fn serve(broker: Arc<Broker>, mut stream: TcpStream, address: SocketAddr, place: Place) {
    // Small packets must not wait for more; without it they only come later.
    let _ = stream.set_nodelay(true);
    let now = broker.clock.now();
    let session =
        Session::new(broker.next_key(), Arc::clone(&broker.limits), format!("assigned-{}", random_text(12)), now);
    let mut connection = Connection {
        broker,
        session,
        address,
        record: None,
        user_name: String::new(),
        routes: RouteCache::default(),
        pending: VecDeque::new(),
        retained_due: VecDeque::new(),
        batch: Batch::default(),
        farewell: None,
    };
    connection.run(&mut stream).await;
    drop(place);
}

struct Connection {
    broker: Arc<Broker>,
    session: Session,
    address: SocketAddr,
    /// Present once the client is let in.
    record: Option<Arc<SessionRecord>>,
    /// The user name that the client gave; empty if none.
    user_name: String,
    routes: RouteCache<Arc<SessionRecord>>,
    /// Taken from the queue and not sent yet, because the client has as much as it takes.
    pending: VecDeque<Delivery>,
    /// Filters whose retained messages are still to be looked up, with the granted QoS. One is looked up when all
    /// before it is sent, and none stands here twice, so that a client can't make the broker hold more than the
    /// retained messages of one filter.
    retained_due: VecDeque<(TopicFilter, QoS)>,
    /// Counted and not passed on yet.
    batch: Batch,
    /// Why the session ended, once it has.
    farewell: Option<(String, bool)>,
}

/// What the task waited for.
enum Event {
    Readable(io::Result<()>),
    Written(io::Result<usize>),
    Woken,
    Due,
    Stopping,
}

impl Connection {
    async fn run(&mut self, stream: &mut TcpStream) {
        let (mut reader, mut writer) = stream.split();
        let mut buffer = BytesMut::new();
        let mut read_size = READ.0;
        loop {
            self.handle_buffer(&mut buffer).await;
            self.deliver().await;
            self.pass_on_counts();
            if self.session.is_closed() {
                break;
            }
            let event = {
                let due = self.session.poll_timeout().map(|time| self.broker.clock.instant(time));
                let wants_more = self.session.wants_packets();
                let outgoing = self.session.outgoing();
                let waiting = outgoing.remaining();
                tokio::select! {
                    written = writer.write_buf(outgoing), if waiting > 0 => Event::Written(written),
                    readable = reader.readable(), if wants_more && waiting < WRITE_AHEAD => Event::Readable(readable),
                    () = woken(self.record.as_deref()) => Event::Woken,
                    () = sleep(due) => Event::Due,
                    () = self.broker.stopping.cancelled() => Event::Stopping,
                }
            };
            let now = self.broker.clock.now();
            match event {
                Event::Readable(Ok(())) => match read(&mut reader, &mut buffer, &mut read_size) {
                    Ok(0) => self.session.handle_connection_lost(now, "the client closed the connection".into()),
                    Ok(count) => self.batch.bytes_in += count as u64,
                    Err(error) if error.kind() == io::ErrorKind::WouldBlock => {}
                    Err(error) => self.lost(now, &error),
                },
                Event::Written(Ok(count)) if count > 0 => self.batch.bytes_out += count as u64,
                Event::Written(Ok(_)) => self.session.handle_connection_lost(now, "the connection is closed".into()),
                Event::Readable(Err(error)) | Event::Written(Err(error)) => self.lost(now, &error),
                Event::Woken => self.end_if_asked(now),
                Event::Due => self.session.handle_timeout(now),
                Event::Stopping => {
                    self.session.end(now, ReasonCode::ServerShuttingDown, "the service is stopping".into());
                }
            }
            self.act().await;
        }
        self.leave();
        // What is left, a DISCONNECT or a refusal, is sent if the client takes it soon.
        let outgoing = self.session.outgoing();
        let _ = timeout(FAREWELL, async {
            while outgoing.has_remaining() && writer.write_buf(outgoing).await? > 0 {}
            writer.shutdown().await?;
            // Closing while bytes are unread would reset the connection, and the client would miss what was just sent.
            while reader.read_buf(&mut buffer).await? > 0 {
                buffer.clear();
            }
            io::Result::Ok(())
        })
        .await;
    }

    fn lost(&mut self, now: Time, error: &io::Error) {
        self.session.handle_connection_lost(now, format!("the connection broke: {error}"));
    }

    fn end_if_asked(&mut self, now: Time) {
        if let Some(ending) = self.record.as_ref().and_then(|record| record.ending()) {
            self.session.end(now, ending.reason, ending.words.clone());
        }
    }

    /// Handles every whole packet in the buffer, as long as there is room for answers.
    async fn handle_buffer(&mut self, buffer: &mut BytesMut) {
        while self.session.wants_packets() && self.session.outgoing().remaining() < WRITE_AHEAD {
            let now = self.broker.clock.now();
            let decoded = Frame::split(buffer, self.session.packet_limit())
                .and_then(|frame| frame.map(|frame| Packet::decode(frame, self.session.version())).transpose());
            match decoded {
                Ok(None) => break,
                Ok(Some(packet)) => self.session.handle_packet(now, packet),
                Err(error) => self.session.handle_decode_error(now, &error),
            }
            self.act().await;
        }
        if buffer.is_empty() {
            // The memory of an idle connection is given back.
            *buffer = BytesMut::new();
        }
    }

    /// Moves deliveries from the queue to the client, as many as it takes.
    async fn deliver(&mut self) {
        let Some(record) = self.record.clone() else { return };
        while self.session.is_open() && self.session.outgoing().remaining() < WRITE_AHEAD {
            if self.pending.is_empty() && !self.refill(&record) {
                break;
            }
            let Some(delivery) = self.pending.pop_front() else { continue };
            if !self.session.can_deliver(delivery.qos) {
                self.pending.push_front(delivery);
                break;
            }
            match self.session.handle_delivery(self.broker.clock.now(), &delivery) {
                Ok(()) => self.batch.messages_out += 1,
                Err(why) => {
                    self.batch.withheld += 1;
                    record.withheld.fetch_add(1, Ordering::Relaxed);
                    tracing::debug!(client = record.client_id, topic = %delivery.message.topic, %why, "withheld");
                }
            }
        }
        self.act().await;
    }

    /// Takes what is to be sent next: retained messages of new subscriptions first, then what was routed meanwhile.
    /// Gives whether there may be more.
    fn refill(&mut self, record: &SessionRecord) -> bool {
        if let Some((filter, granted)) = self.retained_due.pop_front() {
            let retained = self.broker.router.retained(&filter, self.broker.clock.now());
            self.pending = retained
                .into_iter()
                .map(|message| Delivery { qos: message.qos.min(granted), message, retain: true })
                .collect();
            return true;
        }
        if self.pending.capacity() > 2 * DELIVERIES {
            // The memory of a long walk is given back.
            self.pending = VecDeque::new();
        }
        record.take(DELIVERIES, &mut self.pending);
        !self.pending.is_empty()
    }

    /// Carries out what the session wants.
    async fn act(&mut self) {
        while let Some(action) = self.session.poll_action() {
            match action {
                Action::Authenticate(credentials) => {
                    self.user_name = credentials.user_name.as_deref().unwrap_or_default().to_owned();
                    let broker = &self.broker;
                    let check = broker.authenticator.check(&credentials, &broker.directory, &broker.policy);
                    let verdict = tokio::select! {
                        verdict = check => verdict,
                        () = broker.stopping.cancelled() => return,
                    };
                    self.session.handle_verdict(self.broker.clock.now(), verdict);
                }
                Action::Admit { client_id, identity } => self.admit(client_id.to_string(), identity).await,
                Action::Route { message, packet_id } => self.route(&message, packet_id),
                Action::Subscribe { filter, options, send_retained } => {
                    self.subscribe(&filter, options, send_retained);
                }
                Action::Unsubscribe(filter) => {
                    self.broker.router.unsubscribe(self.session.key(), [&filter]);
                    self.retained_due.retain(|(known, _)| *known != filter);
                    self.count_subscriptions();
                }
                Action::Refused(words) => {
                    self.batch.refused += 1;
                    if let Some(record) = &self.record {
                        tracing::debug!(client = record.client_id, "{words}");
                        record.note_refusal(words);
                    }
                }
                Action::Close { words, failure } => self.farewell = Some((words, failure)),
            }
        }
    }

    async fn admit(&mut self, client_id: String, identity: Arc<str>) {
        let record = Arc::new(SessionRecord::new(
            self.session.key(),
            client_id,
            identity,
            self.address,
            self.session.version(),
            &self.broker.limits,
        ));
        match self.broker.registry.admit(&record).await {
            // Between the check and this moment the identity may have been removed or disabled; from now on such a
            // change finds the session in the registry.
            Ok(()) if !self.broker.directory.may_connect(&record.identity) => {
                self.broker.registry.remove(&record);
                let words = format!("the identity {} may no longer connect", record.identity);
                self.session.handle_not_admitted(ReasonCode::NotAuthorized, words);
            }
            Ok(()) => {
                tracing::info!(client = record.client_id, identity = %record.identity, address = %self.address,
                    version = %record.version, "connected");
                self.record = Some(record);
                self.session.handle_admitted(self.broker.clock.now());
            }
            Err(_in_use) => {
                let words = format!("the client identifier {} is in use by another identity", record.client_id);
                self.session.handle_not_admitted(ReasonCode::NotAuthorized, words);
            }
        }
    }

    fn route(&mut self, message: &Arc<Message>, packet_id: Option<PacketId>) {
        self.batch.messages_in += 1;
        let full = message.retain && self.broker.router.retain(message, &self.broker.limits).is_err();
        let routed = if full {
            Routed::RetainedFull
        } else {
            let route = self.routes.route(&self.broker.router, &message.topic);
            Routed::To(self.broker.distribute(message, &route, &mut self.batch))
        };
        if let Some(id) = packet_id {
            self.session.handle_routed(id, routed);
        }
    }

    fn subscribe(&mut self, filter: &TopicFilter, options: SubscriptionOptions, send_retained: bool) {
        let record = self.record.clone().expect("only a client that was let in subscribes");
        self.broker.router.subscribe(record.key, filter, options, Arc::clone(&record));
        self.count_subscriptions();
        if send_retained {
            self.retained_due.retain(|(known, _)| known != filter);
            self.retained_due.push_back((filter.clone(), options.qos));
        }
    }

    fn count_subscriptions(&self) {
        if let Some(record) = &self.record {
            record.subscriptions.store(self.session.subscriptions().count(), Ordering::Relaxed);
        }
    }

    fn pass_on_counts(&mut self) {
        self.broker.counters.add(&self.batch);
        if let Some(record) = &self.record {
            record.counters.add(&self.batch);
            record.in_flight.store(self.session.in_flight(), Ordering::Relaxed);
            record.held.store(self.pending.len(), Ordering::Relaxed);
        }
        self.batch = Batch::default();
    }

    /// Leaves the router and the registry; the will was routed before.
    fn leave(&mut self) {
        let (words, failure) = self.farewell.take().unwrap_or_else(|| ("the service is stopping".into(), false));
        match self.record.take() {
            Some(record) => {
                self.broker.router.unsubscribe(record.key, self.session.subscriptions().map(|(filter, _)| filter));
                record.close();
                self.broker.registry.remove(&record);
                let (client, identity) = (&record.client_id, &record.identity);
                tracing::info!(client, %identity, address = %self.address, failure, "disconnected: {words}");
            }
            None => tracing::info!(user_name = self.user_name, address = %self.address, "not let in: {words}"),
        }
    }
}

async fn woken(record: Option<&SessionRecord>) {
    match record {
        Some(record) => record.wake.notified().await,
        None => pending().await,
    }
}

async fn sleep(due: Option<tokio::time::Instant>) {
    match due {
        Some(due) => sleep_until(due).await,
        None => pending().await,
    }
}

/// Reads what is there. The amount follows what the client sends, so that idle connections hold little.
fn read(reader: &mut ReadHalf<'_>, buffer: &mut BytesMut, size: &mut usize) -> io::Result<usize> {
    buffer.reserve(*size);
    let count = reader.try_read_buf(buffer)?;
    if count >= *size {
        *size = (*size * 2).min(READ.1);
    } else if count < *size / 4 {
        *size = (*size / 2).max(READ.0);
    }
    Ok(count)
}
