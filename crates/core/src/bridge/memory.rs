//! What was seen a short while ago, within bounds: messages by their identifiers, and what was sent by its content.

use std::{
    collections::{HashMap, VecDeque},
    hash::{BuildHasher, Hash},
    time::Duration,
};

use foldhash::fast::RandomState;

use crate::Time;

/// How often something was there and is not forgotten.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
struct Count {
    /// And was not taken.
    there: u32,
    /// And was taken.
    taken: u32,
}

/// Remembers that something was there, for a while. What is remembered is a hash, keyed by the process, so that others
/// can't choose what is taken for something else.
#[derive(Debug)]
pub struct Memory {
    most: usize,
    span: Duration,
    hasher: RandomState,
    /// By its hash.
    known: HashMap<u64, Count, RandomState>,
    /// When, which hash.
    order: VecDeque<(Time, u64)>,
}

impl Memory {
    /// Remembers so many things for such a time; the oldest is forgotten for a new one.
    pub fn new(most: usize, span: Duration) -> Self {
        let known = HashMap::default();
        Self { most, span, hasher: RandomState::default(), known, order: VecDeque::new() }
    }

    /// Something is there.
    pub fn note(&mut self, what: impl Hash, now: Time) {
        self.forget(now);
        if self.order.len() >= self.most {
            self.forget_oldest();
        }
        let hash = self.hasher.hash_one(what);
        self.known.entry(hash).or_default().there += 1;
        self.order.push_back((now, hash));
    }

    /// Whether it was there.
    pub fn is_noted(&mut self, what: impl Hash, now: Time) -> bool {
        self.forget(now);
        self.is_there(self.hasher.hash_one(what))
    }

    /// Whether it was there; it is noted if it was not.
    pub fn was_noted(&mut self, what: impl Hash, now: Time) -> bool {
        self.forget(now);
        let known = self.is_there(self.hasher.hash_one(&what));
        if !known {
            self.note(what, now);
        }
        known
    }

    /// Whether it was there more often than it was taken; it is taken once.
    pub fn take(&mut self, what: impl Hash, now: Time) -> bool {
        self.forget(now);
        let Some(count) = self.known.get_mut(&self.hasher.hash_one(what)).filter(|count| count.there > 0) else {
            return false;
        };
        count.there -= 1;
        count.taken += 1;
        true
    }

    fn is_there(&self, hash: u64) -> bool {
        self.known.get(&hash).is_some_and(|count| count.there > 0)
    }

    fn forget(&mut self, now: Time) {
        while self.order.front().is_some_and(|(at, ..)| now - *at > self.span) {
            self.forget_oldest();
        }
    }

    fn forget_oldest(&mut self) {
        let Some((_, hash)) = self.order.pop_front() else { return };
        let Some(count) = self.known.get_mut(&hash) else { return };
        // The first ones are taken first, and forgotten first.
        if count.taken > 0 {
            count.taken -= 1;
        } else {
            count.there -= 1;
        }
        if *count == Count::default() {
            self.known.remove(&hash);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(seconds: u64) -> Time {
        Time::from_micros(seconds * 1_000_000)
    }

    #[test]
    fn what_was_there_twice_is_taken_twice() {
        let mut memory = Memory::new(10, Duration::from_secs(5));
        memory.note("level", at(0));
        memory.note("level", at(1));
        assert!(memory.take("level", at(2)) && memory.take("level", at(2)) && !memory.take("level", at(2)));
        memory.note("level", at(3));
        assert!(!memory.is_noted("level", at(9)), "what was taken is forgotten before");
        assert!(memory.known.is_empty() && memory.order.is_empty());
    }

    #[test]
    fn it_is_bounded_in_time_and_number() {
        let mut memory = Memory::new(2, Duration::from_secs(5));
        assert!(!memory.was_noted(1, at(0)) && memory.was_noted(1, at(5)));
        assert!(!memory.was_noted(1, at(6)), "it was forgotten");
        assert!(!memory.was_noted(2, at(6)) && !memory.was_noted(3, at(6)));
        assert!(!memory.was_noted(1, at(6)), "the oldest made room");
        assert!(memory.order.len() <= 2 && memory.known.len() <= 2);
    }
}
