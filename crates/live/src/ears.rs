//! Messages that somebody inside wants to hear, as they pass: no subscription, so that nobody who publishes is told of a
//! receiver that is none.

use std::sync::{
    Arc,
    atomic::{AtomicU64, Ordering},
};

use bytes::Bytes;
use moorfall_core::{Message, Time};
use moorfall_wire::{TopicFilter, TopicName};
use parking_lot::{Mutex, RwLock};

/// Messages, and their bytes, that wait to be taken: more are only counted.
const WAITING: (usize, usize) = (65_536, 16 * 1024 * 1024);

/// A message that was heard.
#[derive(Clone, Debug)]
pub struct HeardMessage {
    /// Its topic.
    pub topic: TopicName,
    /// What it says.
    pub payload: Bytes,
    /// When it came.
    pub at: Time,
}

/// Whether messages of a topic are wanted, as it was found out last.
#[derive(Clone, Copy, Debug, Default)]
pub struct Wanted {
    epoch: u64,
    is_wanted: bool,
}

/// What is wanted, and what was heard of it.
#[derive(Debug, Default)]
pub struct Ears {
    /// Another one for each change of what is wanted; 0 as long as nothing is.
    epoch: AtomicU64,
    changes: AtomicU64,
    filters: RwLock<Arc<[TopicFilter]>>,
    heard: Mutex<(Vec<HeardMessage>, usize)>,
    missed: AtomicU64,
}

impl Ears {
    /// From now on messages of these filters are wanted, and no others.
    pub fn want(&self, filters: Vec<TopicFilter>) {
        let epoch = if filters.is_empty() { 0 } else { self.changes.fetch_add(1, Ordering::Relaxed) + 1 };
        *self.filters.write() = filters.into();
        self.epoch.store(epoch, Ordering::Release);
    }

    /// Whether anything is wanted at all.
    pub fn are_open(&self) -> bool {
        self.epoch.load(Ordering::Relaxed) != 0
    }

    /// Hears messages of one topic, if it is wanted; `known` is what was found out when the topic was the same.
    pub fn hear(&self, topic: &TopicName, messages: &[Arc<Message>], known: &mut Wanted) {
        let epoch = self.epoch.load(Ordering::Acquire);
        if epoch == 0 {
            return;
        }
        if known.epoch != epoch {
            let is_wanted = self.filters.read().iter().any(|filter| filter.matches(topic));
            *known = Wanted { epoch, is_wanted };
        }
        if !known.is_wanted {
            return;
        }
        let mut heard = self.heard.lock();
        for message in messages {
            let weight = message.weight();
            if heard.0.len() >= WAITING.0 || heard.1 + weight > WAITING.1 {
                self.missed.fetch_add(1, Ordering::Relaxed);
                continue;
            }
            heard.1 += weight;
            // What waits must not hold on to a receive buffer.
            let payload = Bytes::copy_from_slice(&message.payload);
            heard.0.push(HeardMessage { topic: topic.detached(), payload, at: message.received });
        }
    }

    /// Takes out what was heard, in order, and how many messages there was no room for since the last time.
    pub fn take(&self) -> (Vec<HeardMessage>, u64) {
        let heard = std::mem::take(&mut *self.heard.lock()).0;
        (heard, self.missed.swap(0, Ordering::Relaxed))
    }
}

#[cfg(test)]
mod tests {
    use moorfall_core::SessionKey;
    use moorfall_wire::QoS;

    use super::*;

    fn message(payload: &[u8]) -> Arc<Message> {
        let topic = "harrowmere/weir/level".parse().expect("a topic");
        let payload = Bytes::copy_from_slice(payload);
        let (properties, key) = (Default::default(), SessionKey(1));
        Arc::new(Message::new(topic, payload, QoS::AtMostOnce, false, properties, key, Time::from_micros(7)))
    }

    fn filter(text: &str) -> TopicFilter {
        text.parse().expect("a filter")
    }

    #[test]
    fn what_is_wanted_is_heard_and_what_is_known_of_a_topic_ends_with_a_change() {
        let ears = Ears::default();
        let (level, mut known) = (message(b"1.83"), Wanted::default());
        let mut hear = |ears: &Ears| {
            ears.hear(&level.topic, std::slice::from_ref(&level), &mut known);
            ears.take().0.len()
        };
        assert_eq!((hear(&ears), ears.are_open()), (0, false));
        ears.want(vec![filter("harrowmere/+/level")]);
        assert_eq!((hear(&ears), hear(&ears), ears.are_open()), (1, 1, true));
        ears.want(vec![filter("harrowmere/+/status")]);
        assert_eq!(hear(&ears), 0);
        ears.want(Vec::new());
        assert_eq!((hear(&ears), ears.are_open()), (0, false));
    }

    #[test]
    fn no_more_is_held_than_there_is_room_for() {
        let ears = Ears::default();
        ears.want(vec![filter("#")]);
        let large = message(&vec![0; WAITING.1 / 4]);
        (0..6).for_each(|_| ears.hear(&large.topic, std::slice::from_ref(&large), &mut Wanted::default()));
        let (heard, missed) = ears.take();
        assert_eq!((heard.len(), missed), (3, 3));
        assert_eq!(ears.take().1, 0);
    }
}
