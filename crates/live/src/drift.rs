//! What live traffic does that the plan doesn't say, and attempts that were refused: counted by what and whose, never
//! flooding the log.
//!
//! Whoever may connect can make entries. So they are of a bounded size, there are so many of them, and a new one takes
//! the place of the one that was seen longest ago, without a look at the others.

use std::{
    hash::{BuildHasher, Hash},
    num::NonZeroUsize,
    sync::Arc,
};

use foldhash::fast::RandomState;
use lru::LruCache;
use moorfall_core::{
    Time,
    access::Act,
    plan::{Breach, Fault},
    session::{Cause, Drift, Refusal},
};
use tracing_mutex::parkinglot::Mutex;

/// Parts of a list, each with a lock of its own.
const SHARDS: usize = 16;

/// Entries of one part at most.
const MOST: NonZeroUsize = NonZeroUsize::new(625).expect("it is not 0");

/// Bytes of a topic or a payload that are kept.
const SHORT: usize = 256;

/// When something was seen, and how often.
#[derive(Clone, Debug)]
pub struct Seen<T> {
    /// What was seen.
    pub what: T,
    /// How often.
    pub count: u64,
    /// When first.
    pub first: Time,
    /// When last.
    pub last: Time,
}

/// Entries by key, each counted.
#[derive(Debug)]
pub struct Counted<K: Hash + Eq, T> {
    shards: [Mutex<LruCache<K, Seen<T>>>; SHARDS],
    hasher: RandomState,
}

impl<K: Hash + Eq, T> Default for Counted<K, T> {
    fn default() -> Self {
        let shard = |_| Mutex::new(LruCache::new(MOST));
        Self { shards: std::array::from_fn(shard), hasher: RandomState::default() }
    }
}

impl<K: Hash + Eq + Clone, T: Clone> Counted<K, T> {
    /// Counts `more`; what was known before of the same key is brought up to date by `renew`.
    pub fn note(&self, key: K, more: u64, now: Time, new: impl FnOnce() -> T, renew: impl FnOnce(&mut T)) {
        let shard = self.hasher.hash_one(&key) as usize % SHARDS;
        let mut all = self.shards[shard].lock();
        if let Some(seen) = all.get_mut(&key) {
            seen.count += more;
            seen.last = now;
            return renew(&mut seen.what);
        }
        all.put(key, Seen { what: new(), count: more, first: now, last: now });
    }

    /// All entries, those seen last first.
    pub fn list(&self) -> Vec<(K, Seen<T>)> {
        let mut all = Vec::new();
        for shard in &self.shards {
            all.extend(shard.lock().iter().map(|(key, seen)| (key.clone(), seen.clone())));
        }
        all.sort_by_key(|(_, seen)| std::cmp::Reverse(seen.last));
        all
    }

    /// How many entries there are.
    pub fn count(&self) -> usize {
        self.shards.iter().map(|shard| shard.lock().len()).sum()
    }

    /// Forgets everything.
    pub fn clear(&self) {
        self.shards.iter().for_each(|shard| shard.lock().clear());
    }
}

/// A text that is no longer than what is kept.
fn cut(text: &str, most: usize) -> String {
    if text.len() <= most { text.to_owned() } else { format!("{}…", &text[..text.floor_char_boundary(most)]) }
}

/// A breach of the plan.
#[derive(Clone, Debug)]
pub struct DriftNote {
    /// What the last one breaks.
    pub fault: Fault,
    /// How many of them were refused.
    pub refused: u64,
    /// Who broke it last.
    pub identity: String,
    /// The beginning of a payload.
    pub sample: Vec<u8>,
}

/// Attempts that were refused.
#[derive(Clone, Debug)]
pub struct RefusalNote {
    /// By which client, the last time.
    pub client_id: String,
    /// The last one; without its message, and with the beginnings of what is long.
    pub refusal: Refusal,
}

/// Breaches by topic, of which the beginning is kept, and kind.
pub type Drifts = Counted<(String, Breach), DriftNote>;

/// Refusals by identity, act and cause: not by topic, of which whoever is refused may have any number.
pub type Refusals = Counted<(Arc<str>, Act, Cause), RefusalNote>;

impl Refusals {
    /// Notes what one session was refused.
    pub fn note_refusal(&self, identity: &Arc<str>, client_id: &str, refusal: &Refusal, now: Time) {
        let key = (Arc::clone(identity), refusal.act, refusal.reason.cause());
        let note = || RefusalNote { client_id: cut(client_id, SHORT), refusal: refusal.remembered() };
        self.note(key, refusal.count, now, note, |known| *known = note());
    }
}

impl Drifts {
    /// Notes what one session gathered.
    pub fn note_all(&self, identity: &str, drift: Vec<Drift>, now: Time) {
        for drift in drift {
            let Drift { topic, fault, count, refused, sample } = drift;
            let sample = sample[..sample.len().min(SHORT)].to_vec();
            let breach = fault.breach();
            let new = DriftNote { fault, refused, identity: identity.to_owned(), sample };
            let renewed = new.clone();
            self.note(
                (cut(&topic, SHORT), breach),
                count,
                now,
                || new,
                |known| {
                    let refused = known.refused + renewed.refused;
                    *known = DriftNote { refused, ..renewed };
                },
            );
        }
    }
}

#[cfg(test)]
mod tests {
    use moorfall_core::session::Reason;
    use moorfall_wire::TopicName;

    use super::*;

    #[test]
    fn the_same_is_counted_and_the_oldest_makes_room() {
        let counted: Counted<usize, usize> = Counted::default();
        counted.note(0, 2, Time::default(), || 1, |_| {});
        counted.note(0, 3, Time::default(), || 0, |known| *known += 10);
        let (key, seen) = counted.list().remove(0);
        assert_eq!((key, seen.count, seen.what), (0, 5, 11));
        for number in 1..=100_000 {
            counted.note(number, 1, Time::from_micros(number as u64), || 0, |_| {});
        }
        let list = counted.list();
        assert_eq!((list.len(), list.iter().any(|(key, _)| *key == 0)), (SHARDS * MOST.get(), false));
        counted.clear();
        assert!(counted.list().is_empty());
    }

    #[test]
    fn refusals_of_many_topics_are_one_entry_and_no_entry_is_large() {
        let refusals = Refusals::default();
        let drifts = Drifts::default();
        for number in 0..100 {
            let topic: TopicName = format!("{number}/{}", "x".repeat(60_000)).parse().unwrap();
            let reason = Reason::TopicBytes { bytes: topic.len(), most: 1_024 };
            let refusal = reason.refusal(&"weir".into(), Act::Publish, &topic, None);
            refusals.note_refusal(&"weir".into(), "weir-1", &refusal, Time::default());
            let sample = vec![0; 60_000].into();
            let drift = Drift { topic, fault: Fault::Unplanned, count: 1, refused: 0, sample };
            drifts.note_all("weir", vec![drift], Time::default());
        }
        let list = refusals.list();
        assert_eq!((list.len(), list[0].1.count), (1, 100));
        assert!(list[0].1.what.refusal.topic.len() <= SHORT + 3 && list[0].1.what.refusal.topic.starts_with("99/"));
        let list = drifts.list();
        assert_eq!(list.len(), 100);
        assert!(list.iter().all(|((topic, _), seen)| topic.len() <= SHORT + 3 && seen.what.sample.len() <= SHORT));
    }
}
