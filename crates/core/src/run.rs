//! Messages that follow each other and are handed on together.

use std::{
    fmt,
    ops::Range,
    sync::{Arc, OnceLock},
};

use moorfall_wire::{
    EncodedPublish, EncodedRun, PlainRun, ProtocolVersion, PublishProperties, QoS, TopicFilter, TopicName,
};
use smallvec::SmallVec;

use crate::{Delivery, Message, SessionKey, Time, Via, message::next_apart};

/// What properties weigh when there are none: their length, a 0.
const NO_PROPERTIES: usize = 1;

/// Messages of one publisher on one topic at one QoS, none of them retained: routed, queued and encoded as one, so
/// that what is paid once a recipient is not paid once a message and recipient.
pub struct Run {
    items: Items,
    topic: TopicName,
    qos: QoS,
    publisher: SessionKey,
    /// When the first of them was accepted.
    received: Time,
    weight: usize,
    expires: bool,
    has_large: bool,
    /// Whether one session alone receives it.
    for_one: bool,
    /// The encodings that receivers have needed so far: (version, whether identifiers are in it).
    encodings: [OnceLock<Option<Box<EncodedRun>>>; 4],
    at_rest: OnceLock<Arc<Run>>,
    /// The number of the first of them among messages that are not kept, if they are as they came; the others follow.
    apart: OnceLock<u64>,
}

/// The messages of a run.
enum Items {
    Made(SmallVec<[Arc<Message>; 1]>),
    /// As they came; made only if somebody wants them one by one.
    Plain(PlainRun, OnceLock<Box<[Arc<Message>]>>),
}

impl fmt::Debug for Run {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Run").field("topic", &self.topic).field("messages", &self.len()).finish_non_exhaustive()
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
            topic: first.topic.clone(),
            qos: first.qos,
            publisher: first.publisher,
            received: first.received,
            weight: messages.iter().map(|message| message.weight()).sum(),
            expires: messages.iter().any(|message| message.properties.message_expiry_interval.is_some()),
            has_large: messages.iter().any(|message| message.payload.len() > EncodedPublish::INLINE),
            for_one: false,
            encodings: Default::default(),
            at_rest: OnceLock::new(),
            apart: OnceLock::new(),
            items: Items::Made(messages),
        }
    }

    /// Plain messages as they came from one client, accepted at `received`.
    pub fn plain(topic: TopicName, run: PlainRun, publisher: SessionKey, received: Time) -> Self {
        Self {
            qos: QoS::AtMostOnce,
            publisher,
            received,
            weight: run.payload_bytes() + run.len() * (topic.len() + NO_PROPERTIES),
            expires: false,
            has_large: run.encoded().largest() > EncodedPublish::INLINE,
            for_one: false,
            encodings: Default::default(),
            at_rest: OnceLock::new(),
            apart: OnceLock::new(),
            items: Items::Plain(run, OnceLock::new()),
            topic,
        }
    }

    /// Whether one session alone receives it: then nothing is encoded for many.
    pub fn set_for_one(&mut self, for_one: bool) {
        self.for_one = for_one;
    }

    /// How many messages.
    pub fn len(&self) -> usize {
        match &self.items {
            Items::Made(messages) => messages.len(),
            Items::Plain(run, _) => run.len(),
        }
    }

    /// Whether there is none, which is never so.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The messages, one by one.
    pub fn messages(&self) -> &[Arc<Message>] {
        match &self.items {
            Items::Made(messages) => messages,
            Items::Plain(run, made) => made.get_or_init(|| (0..run.len()).map(|index| self.make(run, index)).collect()),
        }
    }

    fn make(&self, run: &PlainRun, index: usize) -> Arc<Message> {
        let (topic, payload, properties) = (self.topic.clone(), run.payload(index), PublishProperties::default());
        let message = Message::new(topic, payload, self.qos, false, properties, self.publisher, self.received);
        let message = message.with_apart(self.apart() + index as u64);
        Arc::new(if run.version() == ProtocolVersion::V311 { message.of_untold_way() } else { message })
    }

    fn apart(&self) -> u64 {
        *self.apart.get_or_init(|| next_apart(self.len()))
    }

    /// The publisher's QoS.
    pub fn qos(&self) -> QoS {
        self.qos
    }

    /// Where they were published.
    pub fn topic(&self) -> &TopicName {
        &self.topic
    }

    /// When the first of them was accepted.
    pub fn received(&self) -> Time {
        self.received
    }

    /// The number under which the journey of its one message is recorded; 0 if it is not. Such a message is a run by
    /// itself.
    pub fn journey(&self) -> u64 {
        match &self.items {
            Items::Made(messages) => messages[0].journey(),
            Items::Plain(..) => 0,
        }
    }

    /// Who published it.
    pub fn publisher(&self) -> SessionKey {
        self.publisher
    }

    /// Bytes of payload, topic and properties of all.
    pub fn weight(&self) -> usize {
        self.weight
    }

    fn weight_of(&self, index: usize) -> usize {
        match &self.items {
            Items::Made(messages) => messages[index].weight(),
            Items::Plain(run, _) => run.payload_len(index) + self.topic.len() + NO_PROPERTIES,
        }
    }

    /// Whether the life of any message may end, so that each receiver is told what is left of it.
    pub(crate) fn expires(&self) -> bool {
        self.expires
    }

    /// The same run in memory of its own, for waiting longer than a moment: the original borrows the receive buffer of
    /// its publisher. It is made once for all.
    pub fn at_rest(&self) -> &Arc<Self> {
        self.at_rest.get_or_init(|| {
            Arc::new(match &self.items {
                Items::Made(messages) => Self::new(messages.iter().map(|message| Arc::new(message.detached()))),
                Items::Plain(run, _) => Self {
                    apart: OnceLock::from(self.apart()),
                    ..Self::plain(self.topic.clone(), run.detached(), self.publisher, self.received)
                },
            })
        })
    }

    /// The run as it came, if that is how it is sent.
    pub(crate) fn as_it_came(&self, version: ProtocolVersion, qos: QoS) -> Option<&EncodedRun> {
        match &self.items {
            Items::Plain(run, _) if run.version() == version && qos == QoS::AtMostOnce => Some(run.encoded()),
            _ => None,
        }
    }

    /// The run as PUBLISH packets of `version`, encoded at the first call; `None` if a message is too large for copying
    /// or for the format.
    pub(crate) fn encoded(&self, version: ProtocolVersion, qos: QoS) -> Option<&EncodedRun> {
        if let Some(encoded) = self.as_it_came(version, qos) {
            return Some(encoded);
        }
        if self.has_large {
            return None;
        }
        let acknowledged = qos > QoS::AtMostOnce;
        let place = usize::from(version == ProtocolVersion::V5) << 1 | usize::from(acknowledged);
        let encode = || {
            let none = PublishProperties::default();
            let parts = self.messages().iter().map(|message| {
                let properties = if version == ProtocolVersion::V5 { &*message.properties } else { &none };
                (&message.topic, properties, &message.payload)
            });
            EncodedRun::new(parts, version, qos).ok().map(Box::new)
        };
        self.encodings[place].get_or_init(encode).as_deref()
    }
}

/// Messages of one topic that pass by and are looked at.
#[derive(Clone, Copy, Debug)]
pub enum Passing<'a> {
    /// Messages by themselves.
    Messages(&'a [Arc<Message>]),
    /// A run.
    Run(&'a Run),
}

/// What one of them says.
#[derive(Clone, Copy, Debug)]
pub struct Said<'a> {
    /// What was published.
    pub payload: &'a [u8],
    /// The publisher's QoS.
    pub qos: QoS,
    /// The publisher's retain flag.
    pub retain: bool,
    /// When it was accepted.
    pub received: Time,
}

impl<'a> From<&'a Message> for Said<'a> {
    fn from(message: &'a Message) -> Self {
        Self { payload: &message.payload, qos: message.qos, retain: message.retain, received: message.received }
    }
}

impl<'a> Passing<'a> {
    /// How many.
    pub fn len(self) -> usize {
        match self {
            Self::Messages(messages) => messages.len(),
            Self::Run(run) => run.len(),
        }
    }

    /// Whether there is none.
    pub fn is_empty(self) -> bool {
        self.len() == 0
    }

    /// What those of a range say, in order.
    pub fn said(self, range: Range<usize>) -> impl DoubleEndedIterator<Item = Said<'a>> {
        range.map(move |index| match self {
            Self::Messages(messages) => Said::from(&*messages[index]),
            Self::Run(run) => match &run.items {
                Items::Made(messages) => Said::from(&*messages[index]),
                Items::Plain(plain, _) => {
                    Said { payload: plain.payload_slice(index), qos: run.qos, retain: false, received: run.received }
                }
            },
        })
    }

    /// What the last one says.
    pub fn last(self) -> Option<Said<'a>> {
        self.said(0..self.len()).next_back()
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
        Self { left: 0..run.len(), weight: run.weight, run, qos, via }
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

    /// Where they were published.
    pub fn topic(&self) -> &TopicName {
        self.run.topic()
    }

    pub(crate) fn run(&self) -> &Run {
        &self.run
    }

    /// The first message that is left.
    pub(crate) fn first(&self) -> Option<&Arc<Message>> {
        self.run.messages().get(self.left.start)
    }

    /// Whether nobody else is to receive the run any more.
    pub(crate) fn is_alone(&self) -> bool {
        self.run.for_one || Arc::strong_count(&self.run) == 1
    }

    /// The messages that are left, if they are as they came and small enough to be copied.
    pub(crate) fn plain(&self) -> Option<PlainPart<'_>> {
        let Items::Plain(packets, _) = &self.run.items else { return None };
        (!self.run.has_large).then_some(PlainPart { run: &self.run, packets, left: self.left.clone() })
    }

    /// The payloads of the messages that are left.
    pub fn payloads(&self) -> impl Iterator<Item = &[u8]> {
        Passing::Run(&self.run).said(self.left.clone()).map(|said| said.payload)
    }

    /// Places of the messages that are left.
    pub(crate) fn left(&self) -> Range<usize> {
        self.left.clone()
    }

    /// The message in front, as a delivery of its own.
    pub(crate) fn front(&self) -> Option<Delivery> {
        let message = self.run.messages().get(self.left.clone().next()?)?;
        Some(Delivery { via: self.via.clone(), ..Delivery::new(Arc::clone(message), self.qos, false) })
    }

    /// The weight of the message in front.
    pub(crate) fn front_weight(&self) -> Option<usize> {
        self.left.clone().next().map(|front| self.run.weight_of(front))
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
        range.map(|index| self.run.weight_of(index)).sum()
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
        let weights = self.left.clone().map(|index| self.run.weight_of(index));
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

/// Messages of a part that are as they came: at QoS 0, not retained, without properties.
#[derive(Debug)]
pub(crate) struct PlainPart<'a> {
    run: &'a Run,
    packets: &'a PlainRun,
    left: Range<usize>,
}

impl<'a> PlainPart<'a> {
    /// Whether they came from a client of 3.1.1, which can't say what way they have come.
    pub(crate) fn is_of_untold_way(&self) -> bool {
        self.packets.version() == ProtocolVersion::V311
    }

    /// Bytes of the largest payload, or a few more.
    pub(crate) fn largest_payload(&self) -> usize {
        self.packets.encoded().largest()
    }

    /// When they were accepted.
    pub(crate) fn received(&self) -> Time {
        self.run.received
    }

    /// Each payload, with the number of its message among those that are not kept.
    pub(crate) fn messages(&self) -> impl Iterator<Item = (&'a [u8], u64)> {
        let (packets, apart) = (self.packets, self.run.apart());
        self.left.clone().map(move |index| (packets.payload_slice(index), apart + index as u64))
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
