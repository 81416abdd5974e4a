//! Who has the most, of any number of names, in memory that does not grow with them.

use std::{collections::HashMap, hash::Hash};

/// Counts of the names that have the most, by the Space-Saving algorithm (Metwally, Agrawal, El Abbadi 2005): a name that
/// has no counter takes over the smallest one and what it had counted.
///
/// A count is never too low, and too high by what its counter had counted for others, which is known. With `n` counters a
/// name that has more than the `n`-th part of everything is always among them.
#[derive(Clone, Debug)]
pub struct SpaceSaving<K> {
    most: usize,
    counters: Vec<Counter<K>>,
    /// Places of counters, as a heap: none is smaller than the first.
    heap: Vec<usize>,
    places: HashMap<K, usize>,
}

#[derive(Clone, Debug)]
struct Counter<K> {
    name: K,
    count: u64,
    too_many: u64,
    /// Where it stands in the heap.
    stands: usize,
}

/// What is known of one name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Counted<K> {
    /// Which.
    pub name: K,
    /// At most so many.
    pub count: u64,
    /// So many of them may be others'.
    pub too_many: u64,
}

impl<K: Clone + Eq + Hash> SpaceSaving<K> {
    /// With so many counters, at least one.
    pub fn new(most: usize) -> Self {
        Self { most: most.max(1), counters: Vec::new(), heap: Vec::new(), places: HashMap::new() }
    }

    /// A name has so many more.
    pub fn add(&mut self, name: &K, count: u64) {
        self.add_uncertain(name, count, 0);
    }

    fn add_uncertain(&mut self, name: &K, count: u64, too_many: u64) {
        let place = match self.places.get(name) {
            Some(place) => *place,
            None if self.counters.len() < self.most => {
                let place = self.counters.len();
                let stands = self.heap.len();
                self.counters.push(Counter { name: name.clone(), count: 0, too_many: 0, stands });
                self.heap.push(place);
                self.rise(stands);
                self.places.insert(name.clone(), place);
                place
            }
            None => {
                let place = self.heap[0];
                let counter = &mut self.counters[place];
                self.places.remove(&counter.name);
                counter.too_many = counter.count;
                counter.name = name.clone();
                self.places.insert(name.clone(), place);
                place
            }
        };
        let counter = &mut self.counters[place];
        counter.count = counter.count.saturating_add(count);
        counter.too_many = counter.too_many.saturating_add(too_many);
        let stands = counter.stands;
        self.sink(stands);
    }

    /// What a name may have that has no counter: as much as the smallest, if all are in use.
    pub fn unknown(&self) -> u64 {
        if self.counters.len() < self.most {
            0
        } else {
            self.heap.first().map_or(0, |place| self.counters[*place].count)
        }
    }

    /// All that have a counter, in no order.
    pub fn counted(&self) -> impl Iterator<Item = Counted<&K>> {
        self.counters.iter().map(|Counter { name, count, too_many, .. }| Counted {
            name,
            count: *count,
            too_many: *too_many,
        })
    }

    /// What both have counted together, for the names that either knows.
    #[must_use]
    pub fn with(&self, other: &Self) -> Self {
        let mut sum = Self::new(self.counters.len() + other.counters.len());
        for (one, another) in [(self, other), (other, self)] {
            for Counted { name, count, too_many } in one.counted() {
                let missed = if another.places.contains_key(name) { 0 } else { another.unknown() };
                sum.add_uncertain(name, count.saturating_add(missed), too_many.saturating_add(missed));
            }
        }
        sum
    }

    fn count_at(&self, stands: usize) -> u64 {
        self.counters[self.heap[stands]].count
    }

    fn swap(&mut self, one: usize, other: usize) {
        self.heap.swap(one, other);
        self.counters[self.heap[one]].stands = one;
        self.counters[self.heap[other]].stands = other;
    }

    fn rise(&mut self, mut stands: usize) {
        while stands > 0 {
            let above = (stands - 1) / 2;
            if self.count_at(above) <= self.count_at(stands) {
                break;
            }
            self.swap(stands, above);
            stands = above;
        }
    }

    fn sink(&mut self, mut stands: usize) {
        loop {
            let below = [2 * stands + 1, 2 * stands + 2].into_iter().filter(|below| *below < self.heap.len());
            let Some(least) = below.min_by_key(|below| self.count_at(*below)) else { return };
            if self.count_at(stands) <= self.count_at(least) {
                return;
            }
            self.swap(stands, least);
            stands = least;
        }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use proptest::prelude::*;

    use super::*;

    fn sketch(most: usize, stream: &[(u8, u64)]) -> SpaceSaving<u8> {
        let mut sketch = SpaceSaving::new(most);
        stream.iter().for_each(|(name, count)| sketch.add(name, *count));
        sketch
    }

    fn exact(stream: &[(u8, u64)]) -> BTreeMap<u8, u64> {
        let mut exact = BTreeMap::new();
        stream.iter().for_each(|(name, count)| *exact.entry(*name).or_default() += count);
        exact
    }

    /// Never too low, too high by no more than is said, and whoever is not known has no more than is said.
    fn holds(sketch: &SpaceSaving<u8>, exact: &BTreeMap<u8, u64>) -> Result<(), TestCaseError> {
        for (name, count) in exact {
            match sketch.counted().find(|counted| counted.name == name) {
                Some(counted) => {
                    prop_assert!(counted.count >= *count, "{name}: {counted:?}, was {count}");
                    prop_assert!(counted.count - counted.too_many <= *count, "{name}: {counted:?}, was {count}");
                }
                None => prop_assert!(*count <= sketch.unknown(), "{name}: {count}, at most {}", sketch.unknown()),
            }
        }
        Ok(())
    }

    fn streams() -> impl Strategy<Value = Vec<(u8, u64)>> {
        // Few names that come often, many that come now and then.
        let name = prop_oneof![0_u8..4, 0_u8..60];
        prop::collection::vec((name, 1_u64..20), 0..400)
    }

    proptest! {
        #[test]
        fn a_count_is_never_too_low_and_its_error_is_known(most in 1_usize..12, stream in streams()) {
            let sketch = sketch(most, &stream);
            let exact = exact(&stream);
            holds(&sketch, &exact)?;
            prop_assert!(sketch.counters.len() <= most);
            let all: u64 = exact.values().sum();
            prop_assert_eq!(sketch.counted().map(|counted| counted.count).sum::<u64>(), all);
            for (name, count) in &exact {
                prop_assert!(*count <= all / most as u64 || sketch.counted().any(|counted| counted.name == name));
            }
        }

        #[test]
        fn what_two_have_counted_is_added_with_what_each_may_have_missed(
            most in 1_usize..12, first in streams(), second in streams()
        ) {
            let sum = sketch(most, &first).with(&sketch(most, &second));
            let exact = exact(&[first.clone(), second.clone()].concat());
            for counted in sum.counted() {
                let count = exact.get(counted.name).copied().unwrap_or_default();
                prop_assert!(counted.count >= count && counted.count - counted.too_many <= count, "{counted:?}, {count}");
            }
        }
    }
}
