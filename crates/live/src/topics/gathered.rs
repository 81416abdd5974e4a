//! The last messages of a topic, gathered while somebody looks at it.

use std::{
    collections::{HashMap, VecDeque},
    sync::{
        Arc,
        atomic::{AtomicU64, AtomicUsize, Ordering},
    },
};

use bytes::Bytes;
use moorfall_core::{Passing, Time};
use moorfall_wire::QoS;
use tracing_mutex::parkinglot::Mutex;

/// Topics that are looked at at a time.
pub const WATCHED: usize = 64;

/// Messages of a topic that are held, the newest.
pub const HELD: usize = 200;

/// Messages of a topic that are taken in a second; the others are only counted.
pub const PER_SECOND: u64 = 20;

/// How long nobody has to look before nothing is gathered any more, microseconds.
const LEFT_AFTER: u64 = 60 * 1_000_000;

/// Bytes of a payload that are kept.
pub const PAYLOAD: usize = 4_096;

/// One message of a topic.
#[derive(Clone, Debug)]
pub struct SeenMessage {
    /// From 1, of those that were gathered.
    pub number: u64,
    /// When the broker took it.
    pub at: Time,
    /// Whose it is.
    pub publisher: Arc<str>,
    /// The publisher's quality of service.
    pub qos: QoS,
    /// Whether it was to be retained.
    pub retain: bool,
    /// Bytes of the payload.
    pub bytes: usize,
    /// The beginning of its payload.
    pub payload: Bytes,
}

/// A topic that somebody looks at.
#[derive(Debug)]
pub struct Watch {
    since: Time,
    /// When somebody looked last, microseconds since 1970.
    looked: AtomicU64,
    seen: Mutex<Seen>,
}

#[derive(Debug, Default)]
struct Seen {
    messages: VecDeque<SeenMessage>,
    last_number: u64,
    left_out: u64,
    /// The second that is counted now, and messages in it.
    second: (u64, u64),
}

/// What was gathered.
#[derive(Clone, Debug)]
pub struct Gathered {
    /// Since when.
    pub since: Time,
    /// Oldest first.
    pub messages: Vec<SeenMessage>,
    /// Messages that were not taken, because they were too many in their second.
    pub left_out: u64,
}

impl Watch {
    fn new(now: Time) -> Self {
        Self { since: now, looked: AtomicU64::new(now.as_micros()), seen: Mutex::default() }
    }

    /// Whether nobody has looked for long.
    pub fn is_left(&self, now: Time) -> bool {
        now.as_micros().saturating_sub(self.looked.load(Ordering::Relaxed)) > LEFT_AFTER
    }

    /// Takes messages that follow each other.
    pub fn take(&self, messages: Passing<'_>, publisher: &Arc<str>, now: Time) {
        let mut seen = self.seen.lock();
        let second = now.as_micros() / 1_000_000;
        if seen.second.0 != second {
            seen.second = (second, 0);
        }
        for message in messages.said(0..messages.len()) {
            seen.second.1 += 1;
            if seen.second.1 > PER_SECOND {
                seen.left_out += 1;
                continue;
            }
            seen.last_number += 1;
            if seen.messages.len() >= HELD {
                seen.messages.pop_front();
            }
            let payload = &message.payload[..message.payload.len().min(PAYLOAD)];
            let taken = SeenMessage {
                number: seen.last_number,
                at: message.received,
                publisher: Arc::clone(publisher),
                qos: message.qos,
                retain: message.retain,
                bytes: message.payload.len(),
                payload: Bytes::copy_from_slice(payload),
            };
            seen.messages.push_back(taken);
        }
    }

    /// What was gathered after the message of this number.
    fn look(&self, after: u64, now: Time) -> Gathered {
        self.looked.store(now.as_micros(), Ordering::Relaxed);
        let seen = self.seen.lock();
        Gathered {
            since: self.since,
            messages: seen.messages.iter().filter(|message| message.number > after).cloned().collect(),
            left_out: seen.left_out,
        }
    }
}

/// All topics that somebody looks at.
#[derive(Debug, Default)]
pub struct Watches {
    /// How many there are: a new topic is only looked for among them if there are any.
    count: AtomicUsize,
    by_topic: Mutex<HashMap<String, Arc<Watch>>>,
}

impl Watches {
    /// The watch of a topic that is new in the hierarchy.
    pub fn of(&self, topic: &str) -> Option<Arc<Watch>> {
        if self.count.load(Ordering::Relaxed) == 0 {
            return None;
        }
        self.by_topic.lock().get(topic).cloned()
    }

    /// Looks at a topic: what was gathered after the message of this number, and a watch that is to be told of what
    /// comes. `None` if as many are looked at as may be.
    pub fn look(&self, topic: &str, after: u64, now: Time) -> Option<(Gathered, Arc<Watch>)> {
        let mut by_topic = self.by_topic.lock();
        by_topic.retain(|_, watch| !watch.is_left(now));
        if by_topic.len() >= WATCHED && !by_topic.contains_key(topic) {
            return None;
        }
        let watch = Arc::clone(by_topic.entry(topic.to_owned()).or_insert_with(|| Arc::new(Watch::new(now))));
        self.count.store(by_topic.len(), Ordering::Relaxed);
        Some((watch.look(after, now), watch))
    }
}
