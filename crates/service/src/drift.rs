//! What live traffic does that the plan doesn't say, and attempts that were refused: counted by what and whose, never
//! flooding the log.

use std::{collections::HashMap, hash::Hash};

use foldhash::fast::RandomState;
use moorfall_core::{plan::Breach, session::Drift};
use parking_lot::Mutex;
use time::OffsetDateTime;

/// Entries of one list at most; beyond it the one that was seen longest ago makes room.
const MOST: usize = 10_000;

/// When something was seen, and how often.
#[derive(Clone, Debug)]
pub(crate) struct Seen<T> {
    pub(crate) what: T,
    pub(crate) count: u64,
    pub(crate) first: OffsetDateTime,
    pub(crate) last: OffsetDateTime,
}

/// Entries by key, each counted.
#[derive(Debug)]
pub(crate) struct Counted<K, T>(Mutex<HashMap<K, Seen<T>, RandomState>>);

impl<K, T> Default for Counted<K, T> {
    fn default() -> Self {
        Self(Mutex::default())
    }
}

impl<K: Hash + Eq + Clone, T: Clone> Counted<K, T> {
    /// Counts `more`; what was known before of the same key is brought up to date by `renew`.
    pub(crate) fn note(&self, key: K, more: u64, new: impl FnOnce() -> T, renew: impl FnOnce(&mut T)) {
        let now = OffsetDateTime::now_utc();
        let mut all = self.0.lock();
        if let Some(seen) = all.get_mut(&key) {
            seen.count += more;
            seen.last = now;
            return renew(&mut seen.what);
        }
        if all.len() >= MOST
            && let Some(oldest) = all.iter().min_by_key(|(_, seen)| seen.last).map(|(key, _)| key.clone())
        {
            all.remove(&oldest);
        }
        all.insert(key, Seen { what: new(), count: more, first: now, last: now });
    }

    /// All entries, those seen last first.
    pub(crate) fn list(&self) -> Vec<(K, Seen<T>)> {
        let mut all: Vec<_> = self.0.lock().iter().map(|(key, seen)| (key.clone(), seen.clone())).collect();
        all.sort_by_key(|(_, seen)| std::cmp::Reverse(seen.last));
        all
    }

    /// Forgets everything.
    pub(crate) fn clear(&self) {
        self.0.lock().clear();
    }
}

/// A breach of the plan.
#[derive(Clone, Debug)]
pub(crate) struct DriftNote {
    pub(crate) words: String,
    pub(crate) refused: u64,
    /// Who broke it last.
    pub(crate) identity: String,
    /// The beginning of a payload.
    pub(crate) sample: Vec<u8>,
}

/// An attempt that was refused.
#[derive(Clone, Debug)]
pub(crate) struct RefusalNote {
    pub(crate) client_id: String,
}

/// Breaches by topic and kind.
pub(crate) type Drifts = Counted<(String, Breach), DriftNote>;

/// Refusals by identity and sentence.
pub(crate) type Refusals = Counted<(String, String), RefusalNote>;

impl Drifts {
    /// Notes what one session gathered.
    pub(crate) fn note_all(&self, identity: &str, drift: Vec<Drift>) {
        for drift in drift {
            let Drift { topic, breach, words, count, refused, sample } = drift;
            let new = DriftNote { words, refused, identity: identity.to_owned(), sample: sample.to_vec() };
            let renewed = new.clone();
            self.note(
                (topic.to_string(), breach),
                count,
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
    use super::*;

    #[test]
    fn the_same_is_counted_and_the_oldest_makes_room() {
        let counted: Counted<usize, usize> = Counted::default();
        counted.note(0, 2, || 1, |_| {});
        counted.note(0, 3, || 0, |known| *known += 10);
        let (key, seen) = counted.list().remove(0);
        assert_eq!((key, seen.count, seen.what), (0, 5, 11));
        for number in 1..=MOST {
            counted.note(number, 1, || 0, |_| {});
        }
        let list = counted.list();
        assert_eq!((list.len(), list.iter().any(|(key, _)| *key == 0)), (MOST, false));
        counted.clear();
        assert!(counted.list().is_empty());
    }
}
