//! Messages that somebody inside wants to hear, as they pass: no subscription, so that nobody who publishes is told of a
//! receiver that is none.

use std::{
    collections::HashMap,
    sync::{
        Arc,
        atomic::{AtomicU64, AtomicUsize, Ordering},
    },
};

use moorfall_core::{Passing, Time};
use moorfall_wire::{TopicFilter, TopicName};
use parking_lot::{Mutex, RwLock};

/// Messages of one topic that wait to be taken: of more only the newest.
const OF_TOPIC: usize = 4;

/// Topics that are heard at most.
const TOPICS: usize = 20_000;

/// Bytes of a payload that is heard: a longer one is not.
const PAYLOAD: usize = 256 * 1024;

/// Bytes that a place for a payload keeps when it is empty: a longer payload is a large one.
const KEPT: usize = 1_024;

/// Bytes of large payloads that wait at a time.
const LARGE: usize = 32 * 1024 * 1024;

/// What waits of one topic.
#[derive(Debug)]
struct Slot {
    topic: TopicName,
    waiting: Mutex<Waiting>,
}

/// A ring of the newest messages. Its places are used again, so that nothing is allocated for most messages.
#[derive(Debug, Default)]
struct Waiting {
    messages: [(Time, Vec<u8>); OF_TOPIC],
    /// How many have come since they were taken out.
    count: usize,
}

/// Whether messages of a topic are wanted, as it was found out last.
#[derive(Clone, Debug, Default)]
pub struct Wanted {
    epoch: u64,
    slot: Option<Arc<Slot>>,
}

/// What is wanted, and what was heard of it.
#[derive(Debug, Default)]
pub struct Ears {
    /// Another one for each change of what is wanted; 0 as long as nothing is.
    epoch: AtomicU64,
    changes: AtomicU64,
    filters: RwLock<Arc<[TopicFilter]>>,
    slots: RwLock<HashMap<TopicName, Arc<Slot>>>,
    /// Those in which something waits.
    heard: Mutex<Vec<Arc<Slot>>>,
    missed: AtomicU64,
    /// Bytes of large payloads that wait.
    large: AtomicUsize,
}

impl Ears {
    /// From now on messages of these filters are wanted, and no others.
    pub fn want(&self, filters: Vec<TopicFilter>) {
        let epoch = if filters.is_empty() { 0 } else { self.changes.fetch_add(1, Ordering::Relaxed) + 1 };
        *self.filters.write() = filters.into();
        self.slots.write().clear();
        self.epoch.store(epoch, Ordering::Release);
    }

    /// Hears messages of one topic, if it is wanted; `known` is what was found out when the topic was the same.
    pub fn hear(&self, topic: &TopicName, messages: Passing<'_>, known: &mut Wanted) {
        let epoch = self.epoch.load(Ordering::Acquire);
        if epoch == 0 {
            return;
        }
        if known.epoch != epoch {
            let is_wanted = self.filters.read().iter().any(|filter| filter.matches(topic));
            let slot = if is_wanted { self.slot(topic) } else { None };
            if is_wanted && slot.is_none() {
                self.missed.fetch_add(messages.len() as u64, Ordering::Relaxed);
            }
            *known = Wanted { epoch, slot };
        }
        let Some(slot) = &known.slot else { return };
        let is_first = {
            let mut waiting = slot.waiting.lock();
            let is_first = waiting.count == 0;
            // Of a run only what will not be written over by the rest of it.
            let newest = messages.len().saturating_sub(OF_TOPIC)..messages.len();
            for message in messages.said(newest).filter(|message| message.payload.len() <= PAYLOAD) {
                if message.payload.len() > KEPT && !self.holds_more(message.payload.len()) {
                    self.missed.fetch_add(1, Ordering::Relaxed);
                    continue;
                }
                let place = waiting.count % OF_TOPIC;
                let (at, payload) = &mut waiting.messages[place];
                *at = message.received;
                self.empty(payload);
                payload.extend_from_slice(message.payload);
                waiting.count += 1;
            }
            is_first && waiting.count > 0
        };
        if is_first {
            self.heard.lock().push(Arc::clone(slot));
        }
    }

    /// Takes room for a large payload, if there is some.
    fn holds_more(&self, bytes: usize) -> bool {
        let room = |held: usize| Some(held + bytes).filter(|held| *held <= LARGE);
        self.large.fetch_update(Ordering::Relaxed, Ordering::Relaxed, room).is_ok()
    }

    /// Empties a place: a large one is given away, a small one is used again.
    fn empty(&self, payload: &mut Vec<u8>) {
        if payload.len() > KEPT {
            self.large.fetch_sub(payload.len(), Ordering::Relaxed);
            *payload = Vec::new();
        } else {
            payload.clear();
        }
    }

    /// The place of a topic, made if there is room for one more.
    fn slot(&self, topic: &TopicName) -> Option<Arc<Slot>> {
        if let Some(known) = self.slots.read().get(topic) {
            return Some(Arc::clone(known));
        }
        let mut slots = self.slots.write();
        if slots.len() >= TOPICS && !slots.contains_key(topic) {
            return None;
        }
        let topic = topic.detached();
        let make = || Arc::new(Slot { topic: topic.clone(), waiting: Mutex::default() });
        Some(Arc::clone(slots.entry(topic.clone()).or_insert_with(make)))
    }

    /// Gives what was heard, of each topic in order, to `each`: topic, payload and when it came. Gives how many messages came on
    /// topics for which there was no room.
    pub fn take(&self, mut each: impl FnMut(&TopicName, &[u8], Time)) -> u64 {
        let slots = std::mem::take(&mut *self.heard.lock());
        for slot in slots {
            let mut waiting = slot.waiting.lock();
            let count = std::mem::take(&mut waiting.count);
            for number in count.saturating_sub(OF_TOPIC)..count {
                let (at, payload) = &mut waiting.messages[number % OF_TOPIC];
                each(&slot.topic, payload, *at);
                self.empty(payload);
            }
        }
        self.missed.swap(0, Ordering::Relaxed)
    }
}

#[cfg(test)]
mod tests {
    use moorfall_core::{Message, SessionKey};
    use moorfall_wire::QoS;

    use super::*;

    fn message(payload: &[u8]) -> Arc<Message> {
        let topic = "harrowmere/weir/level".parse().expect("a topic");
        let payload = bytes::Bytes::copy_from_slice(payload);
        let (properties, key) = (Default::default(), SessionKey(1));
        Arc::new(Message::new(topic, payload, QoS::AtMostOnce, false, properties, key, Time::from_micros(7)))
    }

    /// The texts that were heard, and how many messages were not.
    fn taken(ears: &Ears) -> (Vec<String>, u64) {
        let mut heard = Vec::new();
        let missed = ears.take(|_, payload, _| heard.push(String::from_utf8_lossy(payload).into_owned()));
        (heard, missed)
    }

    fn filter(text: &str) -> TopicFilter {
        text.parse().expect("a filter")
    }

    #[test]
    fn what_is_wanted_is_heard_and_what_is_known_of_a_topic_ends_with_a_change() {
        let ears = Ears::default();
        let (level, mut known) = (message(b"1.83"), Wanted::default());
        let mut hear = |ears: &Ears| {
            ears.hear(&level.topic, Passing::Messages(std::slice::from_ref(&level)), &mut known);
            taken(ears).0.len()
        };
        assert_eq!(hear(&ears), 0);
        ears.want(vec![filter("harrowmere/+/level")]);
        assert_eq!((hear(&ears), hear(&ears)), (1, 1));
        ears.want(vec![filter("harrowmere/+/status")]);
        assert_eq!(hear(&ears), 0);
        ears.want(Vec::new());
        assert_eq!(hear(&ears), 0);
    }

    #[test]
    fn of_a_topic_the_newest_messages_wait_in_order() {
        let ears = Ears::default();
        ears.want(vec![filter("harrowmere/#")]);
        let mut known = Wanted::default();
        let hear = |texts: &[&str], known: &mut Wanted| {
            let messages: Vec<_> = texts.iter().map(|text| message(text.as_bytes())).collect();
            ears.hear(&messages[0].topic, Passing::Messages(&messages), known);
        };
        let taken = || taken(&ears).0.into_iter();
        hear(&["1", "2"], &mut known);
        hear(&["3"], &mut known);
        assert_eq!(taken().collect::<Vec<_>>(), ["1", "2", "3"]);
        hear(&["4", "5", "6", "7", "8", "9"], &mut known);
        // Another connection publishes to the same topic.
        hear(&["10"], &mut Wanted::default());
        assert_eq!(taken().collect::<Vec<_>>(), ["7", "8", "9", "10"]);
        assert_eq!(taken().count(), 0);
    }

    #[test]
    fn no_more_is_held_of_large_payloads_than_there_is_room_for() {
        let ears = Ears::default();
        ears.want(vec![filter("#")]);
        let large = message(&vec![b'1'; PAYLOAD]);
        let hear = |number: usize, large: &Arc<Message>| {
            let topic = format!("weir/{number}").parse().expect("a topic");
            ears.hear(&topic, Passing::Messages(std::slice::from_ref(large)), &mut Wanted::default());
        };
        let most = LARGE / PAYLOAD;
        // Of one topic the newest take the place of those before.
        (0..most + 50).for_each(|_| hear(0, &large));
        assert_eq!(ears.large.load(Ordering::Relaxed), OF_TOPIC * PAYLOAD);
        (1..=most).for_each(|number| hear(number, &large));
        hear(most + 1, &message(b"1"));
        let (heard, missed) = taken(&ears);
        assert_eq!((heard.len(), missed), (most + 1, OF_TOPIC as u64), "small ones have room all the same");
        assert_eq!(ears.large.load(Ordering::Relaxed), 0);
        hear(0, &message(&vec![b'1'; PAYLOAD + 1]));
        assert_eq!(taken(&ears).0.len(), 0, "what is longer is not heard");
    }

    #[test]
    fn no_more_topics_are_heard_than_there_is_room_for() {
        let ears = Ears::default();
        ears.want(vec![filter("#")]);
        let level = message(b"1");
        for number in 0..TOPICS + 3 {
            let topic = format!("weir/{number}").parse().expect("a topic");
            ears.hear(&topic, Passing::Messages(std::slice::from_ref(&level)), &mut Wanted::default());
        }
        let (heard, missed) = taken(&ears);
        assert_eq!((heard.len(), missed), (TOPICS, 3));
    }
}
