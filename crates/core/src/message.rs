//! One application message inside the broker, shared by all who receive it.

use std::{
    fmt,
    hash::Hasher,
    ops::Deref,
    sync::{
        Arc, OnceLock,
        atomic::{AtomicBool, AtomicU32, AtomicU64, Ordering},
    },
};

use bytes::Bytes;
use moorfall_wire::{EncodedPublish, ProtocolVersion, PublishProperties, QoS, TopicFilter, TopicName, VariableInt};
use sha2::{Digest, Sha256};
use siphasher::sip::SipHasher24;

use crate::Time;

/// Names one session; never used twice, not even after a restart.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct SessionKey(pub u64);

/// A message's place among what is kept on disk. It outlives the message in memory, which may be read again.
#[derive(Debug)]
pub struct Filed {
    /// Its number; later messages have higher ones.
    number: u64,
    /// Sessions that it is kept for and that have not acknowledged it.
    holders: AtomicU32,
    /// Whether it is the retained message of its topic.
    retained: AtomicBool,
}

impl Filed {
    /// The place of a message that so many sessions keep.
    pub fn new(number: u64, holders: u32) -> Arc<Self> {
        Arc::new(Self { number, holders: AtomicU32::new(holders), retained: AtomicBool::new(false) })
    }

    /// Whether it is the retained message of its topic, as far as the file knows.
    pub fn is_retained(&self) -> bool {
        self.retained.load(Ordering::Relaxed)
    }

    /// Whether anything but one session keeps it.
    pub fn is_shared(&self) -> bool {
        self.is_retained() || self.holders.load(Ordering::Relaxed) != 1
    }

    /// One more session keeps it; gives how many did before.
    pub fn hold(&self) -> u32 {
        self.holders.fetch_add(1, Ordering::Relaxed)
    }

    /// One session less keeps it; gives how many still do.
    pub fn let_go(&self) -> u32 {
        self.holders.fetch_sub(1, Ordering::Relaxed).saturating_sub(1)
    }
}

/// Makes names of messages that nobody can guess who does not know it (SipHash-2-4, a keyed hash whose values don't tell
/// the key).
#[derive(Clone)]
pub struct NameKey(SipHasher24);

impl NameKey {
    /// The key that comes of a secret text.
    pub fn of(secret: &str) -> Self {
        let digest = Sha256::digest(secret);
        let mut key = [0; 16];
        key.copy_from_slice(&digest[..16]);
        Self(SipHasher24::new_with_key(&key))
    }

    fn name(&self, bytes: &[u8]) -> MessageName {
        let mut hash = self.0;
        hash.write(bytes);
        let mut name = [0; 16];
        hex::encode_to_slice(hash.finish().to_be_bytes(), &mut name).expect("a byte has two digits");
        MessageName(name)
    }

    /// The name of a message that is not kept: its number among those of this process, and when it was accepted.
    pub(crate) fn name_apart(&self, apart: u64, received: Time) -> MessageName {
        let mut bytes = [0; 16];
        bytes[..8].copy_from_slice(&apart.to_be_bytes());
        bytes[8..].copy_from_slice(&received.as_micros().to_be_bytes());
        self.name(&bytes)
    }
}

/// Numbers for so many messages that are not kept, the first of them.
pub(crate) fn next_apart(count: usize) -> u64 {
    static APART: AtomicU64 = AtomicU64::new(0);
    APART.fetch_add(count as u64, Ordering::Relaxed)
}

impl fmt::Debug for NameKey {
    /// Leaves the key out.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("NameKey")
    }
}

/// The name of a message: 16 hexadecimal digits.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct MessageName([u8; 16]);

impl MessageName {
    /// Stands where a name is still to be written.
    pub(crate) const NONE: &str = "0000000000000000";

    /// Its digits.
    pub(crate) fn digits(&self) -> &[u8] {
        &self.0
    }
}

impl Deref for MessageName {
    type Target = str;

    fn deref(&self) -> &str {
        std::str::from_utf8(&self.0).expect("digits are text")
    }
}

/// A published message. It is made once and lives behind one `Arc`, however many receive it.
#[derive(Debug)]
pub struct Message {
    /// Where it was published.
    pub topic: TopicName,
    /// What was published.
    pub payload: Bytes,
    /// The publisher's QoS.
    pub qos: QoS,
    /// The publisher's retain flag.
    pub retain: bool,
    /// Properties to be passed on; no topic alias, no subscription identifiers.
    pub properties: Properties,
    /// Who published it.
    pub publisher: SessionKey,
    /// When it was accepted.
    pub received: Time,
    /// Present once the message is kept for a session that outlives its connection, or as a retained one.
    pub(crate) filed: OnceLock<Arc<Filed>>,
    journey: u64,
    weight: usize,
    /// Whether it came from a client of 3.1.1, which can't say what way it has come.
    untold: bool,
    /// Told apart from all others of this run of the service; made when somebody asks.
    apart: OnceLock<u64>,
    /// The encodings that receivers have needed so far: (version, with room for a packet identifier).
    encodings: [OnceLock<Option<Box<EncodedPublish>>>; 4],
}

/// Properties that take no room when there are none, which is the rule.
#[derive(Clone, Debug, Default)]
pub struct Properties(Option<Box<PublishProperties>>);

impl From<PublishProperties> for Properties {
    fn from(properties: PublishProperties) -> Self {
        Self((!properties.is_empty()).then(|| Box::new(properties)))
    }
}

impl Deref for Properties {
    type Target = PublishProperties;

    fn deref(&self) -> &PublishProperties {
        static NONE: PublishProperties = PublishProperties {
            payload_format_indicator: None,
            message_expiry_interval: None,
            topic_alias: None,
            response_topic: None,
            correlation_data: None,
            user_properties: Vec::new(),
            subscription_identifiers: Vec::new(),
            content_type: None,
        };
        self.0.as_deref().unwrap_or(&NONE)
    }
}

impl Message {
    /// A message as it was accepted at `received`.
    pub fn new(
        topic: TopicName,
        payload: Bytes,
        qos: QoS,
        retain: bool,
        properties: PublishProperties,
        publisher: SessionKey,
        received: Time,
    ) -> Self {
        let weight = payload.len() + topic.len() + properties.size();
        Self {
            topic,
            payload,
            qos,
            retain,
            properties: properties.into(),
            publisher,
            received,
            filed: OnceLock::new(),
            journey: 0,
            weight,
            untold: false,
            apart: OnceLock::new(),
            encodings: Default::default(),
        }
    }

    /// Bytes of payload, topic and properties, by which queues are bounded.
    pub fn weight(&self) -> usize {
        self.weight
    }

    /// The same message as if it were accepted at `received`: a will that waited.
    pub fn renewed(&self, received: Time) -> Self {
        let properties = PublishProperties::clone(&self.properties);
        let (topic, payload) = (self.topic.clone(), self.payload.clone());
        Self::new(topic, payload, self.qos, self.retain, properties, self.publisher, received)
    }

    /// Gives the message a place among what is kept; the first one stands.
    pub fn file(&self, number: u64) -> u64 {
        self.filed.get_or_init(|| Filed::new(number, 0)).number
    }

    /// Gives a message that was read again the place that it has; one that it has already stands.
    pub fn file_as(&self, filed: Arc<Filed>) {
        self.filed.get_or_init(|| filed);
    }

    /// Its place among what is kept, if it is.
    pub fn filed(&self) -> Option<&Arc<Filed>> {
        self.filed.get()
    }

    /// A name by which all brokers know the message, and which nobody can guess who does not know the key. One that is
    /// kept has the same name after a restart.
    pub fn name(&self, key: &NameKey) -> MessageName {
        match self.number() {
            Some(number) => key.name(&number.to_be_bytes()),
            None => key.name_apart(self.apart(), self.received),
        }
    }

    fn apart(&self) -> u64 {
        *self.apart.get_or_init(|| next_apart(1))
    }

    /// The same message with this number among those that are not kept.
    pub(crate) fn with_apart(self, apart: u64) -> Self {
        Self { apart: OnceLock::from(apart), ..self }
    }

    /// Its number among what is kept.
    pub fn number(&self) -> Option<u64> {
        self.filed.get().map(|filed| filed.number)
    }

    /// Whether it is the retained message of its topic, as far as the file knows.
    pub fn is_retained(&self) -> bool {
        self.filed.get().is_some_and(|filed| filed.is_retained())
    }

    /// Notes whether it is the retained message of its topic.
    pub fn set_retained(&self, retained: bool) {
        if let Some(filed) = self.filed.get() {
            filed.retained.store(retained, Ordering::Relaxed);
        }
    }

    /// Sessions that keep it.
    pub fn holders(&self) -> u32 {
        self.filed.get().map_or(0, |filed| filed.holders.load(Ordering::Relaxed))
    }

    /// One more session keeps it; gives how many did before.
    pub fn hold(&self) -> u32 {
        self.filed.get().map_or(0, |filed| filed.hold())
    }

    /// One session less keeps it; gives how many still do.
    pub fn let_go(&self) -> u32 {
        self.filed.get().map_or(0, |filed| filed.let_go())
    }

    /// The same message in memory of its own, for keeping: the original shares a receive buffer with its neighbours.
    pub fn detached(&self) -> Self {
        let detached = Self::new(
            self.topic.detached(),
            Bytes::copy_from_slice(&self.payload),
            self.qos,
            self.retain,
            self.properties.detached(),
            self.publisher,
            self.received,
        );
        Self { journey: self.journey, untold: self.untold, apart: OnceLock::from(self.apart()), ..detached }
    }

    /// The same message from a client of 3.1.1.
    pub fn of_untold_way(self) -> Self {
        Self { untold: true, ..self }
    }

    /// Whether it came from a client of 3.1.1, which can't say what way it has come.
    pub fn is_of_untold_way(&self) -> bool {
        self.untold
    }

    /// The same message, whose journey is recorded under a number other than 0.
    pub fn followed(&self, journey: u64) -> Self {
        Self { journey, ..self.detached() }
    }

    /// The number under which its journey is recorded; 0 if it is not, which is the rule.
    pub fn journey(&self) -> u64 {
        self.journey
    }

    /// What is left of the message's life at `now`, seconds: `None` if it has no end, `Some(0)` when it is over
    /// (§3.3.2.3.3).
    pub fn expiry_left(&self, now: Time) -> Option<u32> {
        let life = self.properties.message_expiry_interval?;
        let waited = u32::try_from((now - self.received).as_secs()).unwrap_or(u32::MAX);
        Some(life.saturating_sub(waited))
    }

    /// The message as PUBLISH of `version`, encoded at the first call; `None` if it is too long for the format.
    pub fn encoded(&self, version: ProtocolVersion, acknowledged: bool) -> Option<&EncodedPublish> {
        let place = usize::from(version == ProtocolVersion::V5) << 1 | usize::from(acknowledged);
        let encode = || {
            let none = PublishProperties::default();
            let properties = if version == ProtocolVersion::V5 { &self.properties } else { &none };
            EncodedPublish::new(&self.topic, properties, self.payload.clone(), version, acknowledged).ok().map(Box::new)
        };
        self.encodings[place].get_or_init(encode).as_deref()
    }
}

/// What a session must be told, or the broker must remember, of the subscriptions that a message came by.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Via {
    /// The identifiers of the subscriptions that matched (§3.3.2.3.8).
    pub identifiers: Vec<VariableInt>,
    /// The shared subscription in which it was this session's turn.
    pub shared: Option<TopicFilter>,
}

/// A message on its way to one session.
#[derive(Clone, Debug)]
pub struct Delivery {
    /// What.
    pub message: Arc<Message>,
    /// The lower of the published and the granted QoS.
    pub qos: QoS,
    /// The retain flag to send: set for a retained message at subscription, or as published when asked so.
    pub retain: bool,
    /// Whether an earlier run of the service may have sent it.
    pub duplicate: bool,
    /// Its place in the queue of a session that outlives its connection, from 1; 0 when it is not kept.
    pub sequence: u64,
    /// Absent when there is nothing to tell.
    pub via: Option<Arc<Via>>,
}

impl Delivery {
    /// A delivery that is not kept and came by an ordinary subscription.
    pub fn new(message: Arc<Message>, qos: QoS, retain: bool) -> Self {
        Self { message, qos, retain, duplicate: false, sequence: 0, via: None }
    }

    /// The shared subscription that it came by.
    pub fn shared(&self) -> Option<&TopicFilter> {
        self.via.as_ref()?.shared.as_ref()
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may panic")]

    use std::collections::HashSet;

    use super::*;

    fn message() -> Message {
        let topic = "harrowmere/gorge/kettle-weir/stage/level".parse().unwrap();
        let properties = PublishProperties::default();
        Message::new(topic, "1.83".into(), QoS::AtMostOnce, false, properties, SessionKey(7), Time::default())
    }

    #[test]
    fn a_message_has_one_name_and_no_other_has_it() {
        let key = NameKey::of("what only this broker knows");
        let one = message();
        assert_eq!(one.name(&key), one.name(&key));
        let names: HashSet<MessageName> = (0..10_000).map(|_| message().name(&key)).collect();
        assert_eq!(names.len(), 10_000, "the same said at the same time is another message");
        assert_eq!(one.detached().name(&key), one.name(&key), "wherever it stands");
        let copied = message();
        assert_eq!(copied.detached().name(&key), copied.name(&key), "also if it was not asked for before");
        assert!(names.iter().all(|name| name.len() == 16 && name.bytes().all(|byte| byte.is_ascii_hexdigit())));
    }

    #[test]
    fn the_name_of_what_is_kept_is_that_of_its_number_and_key() {
        let (key, other) = (NameKey::of("one secret"), NameKey::of("another secret"));
        let (before, after) = (message(), message());
        assert_eq!((before.file(42), after.file(42)), (42, 42));
        // As after a restart.
        assert_eq!(before.name(&key), after.name(&key));
        assert_ne!(before.name(&key), before.name(&other));
        let next = message();
        next.file(43);
        assert_ne!(next.name(&key), before.name(&key));
        assert_eq!(format!("{key:?}"), "NameKey", "it is never printed");
    }
}
