//! What was seen a short while ago, within bounds: messages by their identifiers, and what was sent by its content.

use std::{
    collections::{HashMap, VecDeque},
    hash::{BuildHasher, Hash},
    time::Duration,
};

use foldhash::fast::RandomState;

use crate::Time;

/// Remembers that something was there, for a while. What is remembered is a hash, keyed by the process, so that others
/// can't choose what is taken for something else.
#[derive(Debug)]
pub struct Memory {
    most: usize,
    span: Duration,
    hasher: RandomState,
    /// By its hash the numbers of the times that it was there, the first one first.
    known: HashMap<u64, VecDeque<u64>, RandomState>,
    /// When, which number, which hash.
    order: VecDeque<(Time, u64, u64)>,
    next: u64,
}

impl Memory {
    /// Remembers so many things for such a time; the oldest is forgotten for a new one.
    pub fn new(most: usize, span: Duration) -> Self {
        let known = HashMap::default();
        Self { most, span, hasher: RandomState::default(), known, order: VecDeque::new(), next: 0 }
    }

    /// Something is there.
    pub fn note(&mut self, what: impl Hash, now: Time) {
        self.forget(now);
        if self.order.len() >= self.most {
            self.forget_oldest();
        }
        let hash = self.hasher.hash_one(what);
        self.next += 1;
        self.known.entry(hash).or_default().push_back(self.next);
        self.order.push_back((now, self.next, hash));
    }

    /// Whether it was there.
    pub fn is_noted(&mut self, what: impl Hash, now: Time) -> bool {
        self.forget(now);
        self.known.contains_key(&self.hasher.hash_one(what))
    }

    /// Whether it was there; it is noted if it was not.
    pub fn was_noted(&mut self, what: impl Hash, now: Time) -> bool {
        self.forget(now);
        let known = self.known.contains_key(&self.hasher.hash_one(&what));
        if !known {
            self.note(what, now);
        }
        known
    }

    /// Whether it was there more often than it was taken; it is taken once.
    pub fn take(&mut self, what: impl Hash, now: Time) -> bool {
        self.forget(now);
        let hash = self.hasher.hash_one(what);
        let first = self.known.get(&hash).and_then(|numbers| numbers.front().copied());
        first.is_some_and(|first| self.drop_number(hash, first))
    }

    /// Whether it was the first one of its hash, which it is no more.
    fn drop_number(&mut self, hash: u64, number: u64) -> bool {
        let Some(numbers) = self.known.get_mut(&hash).filter(|numbers| numbers.front() == Some(&number)) else {
            return false;
        };
        numbers.pop_front();
        if numbers.is_empty() {
            self.known.remove(&hash);
        }
        true
    }

    fn forget(&mut self, now: Time) {
        while self.order.front().is_some_and(|(at, ..)| now - *at > self.span) {
            self.forget_oldest();
        }
    }

    fn forget_oldest(&mut self) {
        if let Some((_, number, hash)) = self.order.pop_front() {
            // It may have been taken since.
            self.drop_number(hash, number);
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
