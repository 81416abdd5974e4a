//! The task that hears sources and publishes what is made of them.

use std::{collections::VecDeque, sync::Arc, time::Duration};

use bytes::{Bytes, BytesMut};
use moorfall_broker::{clock::sleep, connection::handover::Handover, listeners::origin::Acting};
use moorfall_client::{Dialled, Layer};
use moorfall_core::{
    DERIVED, Limits, Message, QueuePolicy, SessionKey, Time,
    blueprint::Derived,
    derived::{Kept, Made, Outcome},
    measure::Measure,
    plan::{Agreement, Broken, Fault},
    session::{Drift, Handed, HandedMessage},
};
use moorfall_store::StoreError;
use moorfall_wire::{
    Acknowledgement, Disconnect, DisconnectProperties, Frame, MAX_PACKET_SIZE, Packet, PacketId, ProtocolVersion,
    PublishProperties, QoS, ReasonCode, RetainHandling, Subscription, SubscriptionOptions, TopicName,
};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    sync::oneshot,
    time::{Instant, MissedTickBehavior, interval},
};

use super::{DerivedTopics, SAMPLE};
use crate::inside::{Inside, NotInside, requests};

/// The listener that the client counts as one of, and what it is called.
const LISTENER: &str = "derived";

/// Messages at QoS 1 that it is handed and has not acknowledged.
const IN_FLIGHT: u16 = 4_096;

/// Messages that are judged at a time before others have their turn.
const SLICE: usize = 64;

/// Topics that are kept at a time.
const KEEP: usize = 2_000;

/// Until it is connected again after it could not be.
const AGAIN: Duration = Duration::from_secs(5);

/// What keeps derived topics from being made.
#[derive(Debug, thiserror::Error)]
enum Trouble {
    #[error(transparent)]
    NotInside(#[from] NotInside),
    #[error("This broker ended their connection: {0}")]
    Ended(String),
    #[error("This broker refuses to let them hear {0}: {1}")]
    Refused(String, String),
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// The client inside while it is connected.
struct Client {
    stream: Box<dyn Layer>,
    buffer: BytesMut,
    handover: Arc<Handover>,
    handed: VecDeque<HandedMessage>,
    /// Acknowledgements and requests on their way.
    outgoing: BytesMut,
    /// Filters that were asked for and not answered yet.
    asked: Vec<Subscription>,
}

impl DerivedTopics {
    /// Makes the derived topics of the design in force, until the service stops. `ready` is told when their sources are heard.
    pub async fn run(self: Arc<Self>, ready: oneshot::Sender<()>) {
        let mut run = Run {
            topics: Arc::clone(&self),
            revision: None,
            client: None,
            again: None,
            subscribed: Vec::new(),
            is_restored: false,
            unsaved: Vec::new(),
            ready: Some(ready),
        };
        let mut ticks = interval(Duration::from_secs(1));
        ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
        let stopping = self.broker.common.stopping.clone();
        loop {
            let due = self.inner.lock().deriver.due().map(|due| self.broker.common.clock.instant(due));
            tokio::select! {
                _ = ticks.tick() => run.tick().await,
                () = sleep(due) => run.look().await,
                trouble = Client::hear(&mut run.client, &self) => {
                    // A service that stops ends all connections.
                    if stopping.is_cancelled() {
                        break;
                    }
                    run.lose(trouble);
                }
                () = stopping.cancelled() => break,
            }
        }
        // What is not judged is not acknowledged, and comes again.
        while run.save().await {}
    }

    /// Publishes what is made, and counts it. Gives nothing back: whoever hears of it is handed it.
    fn publish(&self, made: Vec<Made>, from: (&TopicName, &[u8]), now: Time) {
        for Made { derived, topic, outcome } in made {
            let Some((identity, qos, retained)) = self.terms(derived) else { continue };
            let is_refused = match &outcome {
                Outcome::Published(payload) => self.is_refused(&topic, (qos, retained), payload, &identity, now),
                _ => false,
            };
            if let Some(counts) = self.inner.lock().counts.get_mut(derived) {
                if is_refused {
                    counts.refused += 1;
                } else {
                    counts.note(&outcome, now, from);
                }
            }
            let counters = &self.broker.live.counters;
            match outcome {
                Outcome::Failed(_) => counters.count(Measure::DerivedFailed, 1),
                Outcome::Published(payload) if !is_refused => {
                    counters.count(Measure::Derived, 1);
                    let properties = PublishProperties::default();
                    let message = Message::new(topic, payload, qos, retained, properties, SessionKey(0), now);
                    self.broker.sessions.publish(&Arc::new(message), &identity);
                }
                _ => {}
            }
        }
    }

    /// As whom one of the design publishes, at which QoS, and whether messages are retained.
    fn terms(&self, derived: usize) -> Option<(Arc<str>, QoS, bool)> {
        let inner = self.inner.lock();
        let design = inner.deriver.design().nth(derived)?;
        Some((Arc::clone(inner.identities.get(derived)?), design.qos, design.retained))
    }

    /// Whether the plan refuses what is made; what differs from it is noted.
    fn is_refused(&self, topic: &TopicName, flags: (QoS, bool), payload: &Bytes, identity: &str, now: Time) -> bool {
        let broken = match self.broker.design.policy().plan().judge(topic, flags.0, flags.1, payload) {
            Agreement::NoPlan | Agreement::AsPlanned(_) => return false,
            Agreement::Unplanned => Broken { fault: Fault::Unplanned, refused: false },
            Agreement::Breaks(_, broken) => broken,
        };
        let Broken { fault, refused } = broken;
        // A sample must not keep the memory of a message.
        let sample = Bytes::copy_from_slice(&payload[..payload.len().min(SAMPLE)]);
        let drift = Drift { topic: topic.clone(), fault, count: 1, refused: refused.into(), sample };
        self.broker.live.drifts.note_all(identity, vec![drift], now);
        refused
    }

    /// Judges one message.
    fn judge(&self, message: &HandedMessage, now: Time) {
        let HandedMessage { message, qos, retain, .. } = message;
        let made = {
            let mut inner = self.inner.lock();
            let made = inner.deriver.hear(&message.topic, &message.payload, (*qos, *retain), now);
            // Each of the design hears a message once, though it may be of several of its sources.
            let mut before = None;
            for one in &made {
                if before.replace(one.derived) != Some(one.derived) {
                    inner.counts[one.derived].heard += 1;
                }
            }
            made
        };
        self.publish(made, (&message.topic, &message.payload), now);
    }
}

/// What the task holds.
struct Run {
    topics: Arc<DerivedTopics>,
    /// Which design is made.
    revision: Option<i64>,
    client: Option<Client>,
    /// When it is tried again to connect.
    again: Option<Instant>,
    /// What is subscribed to.
    subscribed: Vec<String>,
    /// Whether what was known before the start is known again.
    is_restored: bool,
    /// What is to be kept and could not be.
    unsaved: Vec<Kept>,
    ready: Option<oneshot::Sender<()>>,
}

impl Run {
    /// What is due each second.
    async fn tick(&mut self) {
        let in_force = self.topics.broker.design.in_force();
        if self.revision != Some(in_force.revision) {
            let design = in_force.policy.blueprint().derived.clone();
            match self.take_over(&design).await {
                Ok(()) => self.revision = Some(in_force.revision),
                Err(trouble) => self.lose(trouble),
            }
        } else if self.client.is_none() && self.again.is_some_and(|again| again <= Instant::now()) {
            self.again = None;
            if let Err(trouble) = self.connect().await {
                self.lose(trouble);
            }
        }
        self.save().await;
    }

    /// Makes these from now on.
    async fn take_over(&mut self, design: &[Derived]) -> Result<(), Trouble> {
        let store = self.topics.broker.store();
        self.topics.take_over(design);
        // What was known before the service was started, unless something is known that is newer.
        if !std::mem::replace(&mut self.is_restored, true) {
            let read = async { Ok((store.derived_filters().await?, store.derived().await?)) };
            let (filters, kept) = read.await.inspect_err(|_: &StoreError| self.is_restored = false)?;
            self.subscribed = filters;
            let mut inner = self.topics.inner.lock();
            for kept in &kept {
                // What the design says otherwise now is forgotten below.
                inner.deriver.restore(kept);
            }
        }
        let said: Vec<(String, String)> = design.iter().map(|one| (one.name.clone(), one.says())).collect();
        store.keep_derived(&said).await?;
        self.connect().await
    }

    /// Connects the client if something is made, and asks for what is to be heard; else its session ends.
    async fn connect(&mut self) -> Result<(), Trouble> {
        let filters = self.topics.inner.lock().deriver.filters();
        let broker = &self.topics.broker;
        if filters.is_empty() {
            let is_there = broker.sessions.registry.get(DERIVED).is_some();
            if is_there && self.client.is_none() {
                self.client = Some(open(&self.topics).await?);
            }
            if let Some(client) = self.client.take() {
                client.end().await;
            }
            self.note_subscribed(&[]).await?;
            self.is_ready();
            return Ok(());
        }
        if self.client.is_none() {
            self.client = Some(open(&self.topics).await?);
        }
        let wanted: Vec<Subscription> = filters
            .into_iter()
            .map(|(filter, qos)| {
                let options = SubscriptionOptions {
                    qos,
                    no_local: false,
                    retain_as_published: true,
                    retain_handling: RetainHandling::IfNew,
                };
                Subscription { filter, options }
            })
            .collect();
        let Some(client) = &mut self.client else { return Ok(()) };
        client.ask(&wanted, &self.subscribed);
        let names: Vec<String> = wanted.iter().map(|one| one.filter.to_string()).collect();
        self.note_subscribed(&names).await?;
        self.topics.set_trouble(None);
        self.is_ready();
        Ok(())
    }

    fn is_ready(&mut self) {
        if let Some(ready) = self.ready.take() {
            // The service may have stopped.
            let _ = ready.send(());
        }
    }

    async fn note_subscribed(&mut self, filters: &[String]) -> Result<(), Trouble> {
        if self.subscribed != filters {
            self.topics.broker.store().put_derived_filters(filters).await?;
            self.subscribed = filters.to_vec();
        }
        Ok(())
    }

    /// The client is gone, or was refused something: it is tried again.
    fn lose(&mut self, trouble: Trouble) {
        tracing::warn!("derived topics are not made: {trouble}");
        self.topics.set_trouble(Some(trouble.to_string()));
        self.client = None;
        self.again = Some(Instant::now() + AGAIN);
        // Whoever waits for them to be heard need not wait longer.
        self.is_ready();
    }

    /// Looks at what is due.
    async fn look(&mut self) {
        let now = self.topics.broker.now();
        let made = self.topics.inner.lock().deriver.look(now, SLICE);
        for one in made {
            let topic = one.topic.clone();
            self.topics.publish(vec![one], (&topic, &[]), now);
        }
        tokio::task::yield_now().await;
    }

    /// Keeps what is new; gives whether there is more.
    async fn save(&mut self) -> bool {
        if self.unsaved.is_empty() {
            self.unsaved = self.topics.inner.lock().deriver.take_new(KEEP);
        }
        if self.unsaved.is_empty() {
            return false;
        }
        match self.topics.broker.store().put_derived(&self.unsaved).await {
            Ok(()) => {
                let more = self.unsaved.len() == KEEP;
                self.unsaved.clear();
                more
            }
            Err(error) => {
                tracing::debug!("what is known of derived topics is not kept yet: {error}");
                false
            }
        }
    }
}

/// Connects the client inside.
async fn open(DerivedTopics { broker, seats, .. }: &DerivedTopics) -> Result<Client, Trouble> {
    let limits = Limits {
        receive_maximum: u16::MAX,
        in_flight: IN_FLIGHT,
        topic_aliases: 0,
        refusals_per_second: 0,
        subscriptions: usize::MAX,
        queue_policy: QueuePolicy::DropOldest,
        session_expiry_seconds: u32::MAX,
        ..(*broker.limits).clone()
    };
    let inside = Inside { broker: Arc::clone(broker), seats: Arc::clone(seats), listener: LISTENER };
    let most = PacketId::new(IN_FLIGHT);
    let opened = inside.open(
        DERIVED.to_owned(),
        |handover| Acting::Derived { handover },
        limits,
        |connect| {
            connect.properties.receive_maximum = most;
        },
    );
    let (Dialled { stream, buffer, .. }, handover) = opened.await?;
    Ok(Client { stream, buffer, handover, handed: VecDeque::new(), outgoing: BytesMut::new(), asked: Vec::new() })
}

impl Client {
    /// Judges messages as they come; ends when the client is gone. Without a client it waits for ever.
    async fn hear(this: &mut Option<Self>, topics: &DerivedTopics) -> Trouble {
        let Some(this) = this else { return std::future::pending().await };
        loop {
            if let Err(trouble) = this.hear_some(topics).await {
                return trouble;
            }
        }
    }

    /// Nothing is lost when something else comes before.
    async fn hear_some(&mut self, topics: &DerivedTopics) -> Result<(), Trouble> {
        while !self.outgoing.is_empty() {
            let written = self.stream.write_buf(&mut self.outgoing).await;
            written.map_err(|error| Trouble::Ended(format!("{error}.")))?;
        }
        if self.handed.is_empty() {
            let handover = Arc::clone(&self.handover);
            tokio::select! {
                () = std::future::poll_fn(|context| handover.poll_ready(context)) => {
                    let mut taken = VecDeque::new();
                    handover.take(&mut taken);
                    self.handed.extend(taken.into_iter().flat_map(Handed::into_messages));
                }
                read = self.stream.read_buf(&mut self.buffer) => {
                    if read.map_or(true, |count| count == 0) {
                        return Err(Trouble::Ended("it closed it.".into()));
                    }
                    return self.read();
                }
            }
        }
        let now = topics.broker.now();
        for _ in 0..SLICE {
            let Some(message) = self.handed.front() else { break };
            topics.judge(message, now);
            if let (QoS::AtLeastOnce, Some(id)) = (message.qos, message.packet_id) {
                // An acknowledgement always encodes.
                let _ = Packet::PubAck(Acknowledgement::success(id)).encode(ProtocolVersion::V5, &mut self.outgoing);
            }
            self.handed.pop_front();
        }
        tokio::task::yield_now().await;
        Ok(())
    }

    /// Brings what is subscribed to from what it was to what is wanted.
    fn ask(&mut self, wanted: &[Subscription], before: &[String]) {
        for packet in requests(wanted, before) {
            // Filters that were read always encode.
            let _ = packet.encode(ProtocolVersion::V5, &mut self.outgoing);
        }
        self.asked = wanted.to_vec();
    }

    /// Answers to what was asked for.
    fn read(&mut self) -> Result<(), Trouble> {
        while let Ok(Some(frame)) = Frame::split(&mut self.buffer, MAX_PACKET_SIZE) {
            match Packet::decode(frame, ProtocolVersion::V5) {
                Ok(Packet::SubAck(ack)) => {
                    let refused = self.asked.iter().zip(&ack.reasons).find(|(_, reason)| reason.is_error());
                    if let Some((one, reason)) = refused {
                        return Err(Trouble::Refused(one.filter.to_string(), reason.coded()));
                    }
                }
                Ok(Packet::Disconnect(goodbye)) => {
                    let words = goodbye.properties.reason_string.as_deref().unwrap_or_default().to_owned();
                    return Err(Trouble::Ended(format!("{}. {words}", goodbye.reason.coded())));
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// The session is not wanted any more.
    async fn end(mut self) {
        let properties = DisconnectProperties { session_expiry_interval: Some(0), ..DisconnectProperties::default() };
        let goodbye = Packet::Disconnect(Disconnect { reason: ReasonCode::Success, properties });
        let _ = goodbye.encode(ProtocolVersion::V5, &mut self.outgoing);
        // Whoever has gone already needs no goodbye.
        let _ = self.stream.write_all(&self.outgoing).await;
        while self.stream.read_buf(&mut self.buffer).await.is_ok_and(|count| count > 0) {
            self.buffer.clear();
        }
    }
}
