//! Messages that follow each other and are handed on together.

use std::{
    fmt,
    ops::Range,
    sync::{Arc, OnceLock},
};

use moorfall_wire::{EncodedPublish, EncodedRun, ProtocolVersion, PublishProperties, QoS, TopicFilter, TopicName};
use smallvec::SmallVec;

use crate::{Delivery, Message, SessionKey, Via};

/// Messages of one publisher on one topic at one QoS, none of them retained: routed, queued and encoded as one, so
/// that what is paid once a recipient is not paid once a message and recipient.
pub struct Run {
    messages: SmallVec<[Arc<Message>; 1]>,
    weight: usize,
    expires: bool,
    has_large: bool,
    /// The encodings that receivers have needed so far: (version, whether identifiers are in it).
    encodings: [OnceLock<Option<Box<EncodedRun>>>; 4],
    at_rest: OnceLock<Arc<Run>>,
}

impl fmt::Debug for Run {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Run").field("messages", &self.messages).finish_non_exhaustive()
    }
}

impl Run {
    /// A run of these messages, at least one, that keep to what the type says.
    pub fn new(messages: impl IntoIterator<Item = Arc<Message>>) -> Self {
        let messages: SmallVec<[Arc<Message>; 1]> = messages.into_iter().collect();
        let first = messages.first().expect("a run is made of at least one message");
        debug_assert!(messages.iter().all(|message| {
            (&message.topic, message.qos, message.publisher) == (&first.topic, first.qos, first.publisher)
                && !message.retain
        }));
        Self {
            weight: messages.iter().map(|message| message.weight()).sum(),
            expires: messages.iter().any(|message| message.properties.message_expiry_interval.is_some()),
            has_large: messages.iter().any(|message| message.payload.len() > EncodedPublish::INLINE),
            encodings: Default::default(),
            at_rest: OnceLock::new(),
            messages,
        }
    }

    /// The messages.
    pub fn messages(&self) -> &[Arc<Message>] {
        &self.messages
    }

    /// The publisher's QoS.
    pub fn qos(&self) -> QoS {
        self.messages[0].qos
    }

    /// Where they were published.
    pub fn topic(&self) -> &TopicName {
        &self.messages[0].topic
    }

    /// The number under which the journey of its one message is recorded; 0 if it is not. Such a message is a run by
    /// itself.
    pub fn journey(&self) -> u64 {
        self.messages[0].journey()
    }

    /// Who published it.
    pub fn publisher(&self) -> SessionKey {
        self.messages[0].publisher
    }

    /// Bytes of payload, topic and properties of all.
    pub fn weight(&self) -> usize {
        self.weight
    }

    /// Whether the life of any message may end, so that each receiver is told what is left of it.
    pub(crate) fn expires(&self) -> bool {
        self.expires
    }

    /// The same run in memory of its own, for waiting longer than a moment: the original borrows the receive buffer of
    /// its publisher. It is made once for all.
    pub fn at_rest(&self) -> &Arc<Self> {
        self.at_rest
            .get_or_init(|| Arc::new(Self::new(self.messages.iter().map(|message| Arc::new(message.detached())))))
    }

    /// The run as PUBLISH packets of `version`, encoded at the first call; `None` if a message is too large for copying
    /// or for the format.
    pub(crate) fn encoded(&self, version: ProtocolVersion, qos: QoS) -> Option<&EncodedRun> {
        if self.has_large {
            return None;
        }
        let acknowledged = qos > QoS::AtMostOnce;
        let place = usize::from(version == ProtocolVersion::V5) << 1 | usize::from(acknowledged);
        let encode = || {
            let none = PublishProperties::default();
            let parts = self.messages.iter().map(|message| {
                let properties = if version == ProtocolVersion::V5 { &*message.properties } else { &none };
                (&message.topic, properties, &message.payload)
            });
            EncodedRun::new(parts, version, qos).ok().map(Box::new)
        };
        self.encodings[place].get_or_init(encode).as_deref()
    }
}

/// Messages of a run on their way to one session: those that it was not sent yet.
#[derive(Clone, Debug)]
pub struct Part {
    run: Arc<Run>,
    left: Range<usize>,
    /// Bytes of those that are left.
    weight: usize,
    /// The lower of the published and the granted QoS.
    pub qos: QoS,
    /// Absent when there is nothing to tell.
    pub via: Option<Arc<Via>>,
}

impl Part {
    /// All of a run.
    pub fn new(run: Arc<Run>, qos: QoS, via: Option<Arc<Via>>) -> Self {
        Self { left: 0..run.messages.len(), weight: run.weight, run, qos, via }
    }

    /// Messages that are left.
    pub fn len(&self) -> usize {
        self.left.len()
    }

    /// Whether none is left.
    pub fn is_empty(&self) -> bool {
        self.left.is_empty()
    }

    /// Bytes of payload, topic and properties of those that are left.
    pub fn weight(&self) -> usize {
        self.weight
    }

    /// The shared subscription that it came by.
    pub fn shared(&self) -> Option<&TopicFilter> {
        self.via.as_ref()?.shared.as_ref()
    }

    pub(crate) fn run(&self) -> &Run {
        &self.run
    }

    /// The messages that are left.
    pub(crate) fn messages(&self) -> impl Iterator<Item = &Arc<Message>> {
        self.run.messages[self.left.clone()].iter()
    }

    /// The first message that is left.
    pub(crate) fn first(&self) -> Option<&Arc<Message>> {
        self.run.messages.get(self.left.start)
    }

    /// Whether nobody else is to receive the run any more.
    pub(crate) fn is_alone(&self) -> bool {
        Arc::strong_count(&self.run) == 1
    }

    /// Places of the messages that are left.
    pub(crate) fn left(&self) -> Range<usize> {
        self.left.clone()
    }

    /// The message in front, as a delivery of its own.
    pub(crate) fn front(&self) -> Option<Delivery> {
        let message = self.run.messages.get(self.left.clone().next()?)?;
        Some(Delivery { via: self.via.clone(), ..Delivery::new(Arc::clone(message), self.qos, false) })
    }

    /// The weight of the message in front.
    pub(crate) fn front_weight(&self) -> Option<usize> {
        self.left.clone().next().map(|front| self.run.messages[front].weight())
    }

    /// The first `count` are done with.
    pub(crate) fn advance(&mut self, count: usize) {
        let to = (self.left.start + count).min(self.left.end);
        self.weight -= self.weight_of(self.left.start..to);
        self.left.start = to;
    }

    fn weight_of(&self, range: Range<usize>) -> usize {
        if range == self.left {
            return self.weight;
        }
        self.run.messages[range].iter().map(|message| message.weight()).sum()
    }

    /// Takes the first `count` off, as a part of their own.
    pub(crate) fn split_to(&mut self, count: usize) -> Self {
        let mut first = self.clone();
        self.advance(count);
        first.left.end = self.left.start;
        first.weight -= self.weight;
        first
    }

    /// How many from the front have a weight of at most `room` together.
    pub(crate) fn fitting(&self, room: usize) -> usize {
        if self.weight <= room {
            return self.len();
        }
        let mut sum = 0;
        let weights = self.run.messages[self.left.clone()].iter().map(|message| message.weight());
        weights
            .take_while(|weight| {
                sum += weight;
                sum <= room
            })
            .count()
    }

    /// Exchanges the run for its copy in memory of its own.
    pub(crate) fn put_at_rest(&mut self) {
        self.run = Arc::clone(self.run.at_rest());
    }
}

impl Iterator for Part {
    type Item = Delivery;

    /// Takes the message in front, as a delivery of its own.
    fn next(&mut self) -> Option<Delivery> {
        let delivery = self.front()?;
        self.advance(1);
        Some(delivery)
    }
}
