//! The subscription index: a trie over topic levels that shares its structure between versions.
//!
//! A change copies only the nodes on its path and yields a new root; whoever reads the old root is not disturbed.
//! So readers need no lock, and a snapshot is consistent however long it is held.

use std::sync::Arc;

use foldhash::fast::RandomState;
use imbl::{GenericHashMap, shared_ptr::DefaultSharedPtr};
use moorfall_wire::{SubscriptionOptions, TopicFilter, TopicName};

use crate::SessionKey;

/// A hash map that is cloned in constant time and copies only what a change touches.
pub(crate) type SharedMap<K, V> = GenericHashMap<K, V, RandomState, DefaultSharedPtr>;

/// One session's subscription at a filter, with whatever reaches that session.
#[derive(Clone, Debug)]
pub(crate) struct Subscriber<T> {
    pub(crate) options: SubscriptionOptions,
    pub(crate) handle: T,
}

type Subscribers<T> = SharedMap<SessionKey, Subscriber<T>>;

/// All filters that begin with the same levels.
#[derive(Clone, Debug)]
pub(crate) struct Node<T> {
    /// By the next level, when it is spelled out.
    children: SharedMap<Arc<str>, Arc<Node<T>>>,
    /// When the next level is `+`.
    any: Option<Arc<Node<T>>>,
    /// Filters that end here.
    here: Subscribers<T>,
    /// Filters that end here with `/#`: they match this level too, and everything below.
    below: Subscribers<T>,
}

impl<T> Default for Node<T> {
    fn default() -> Self {
        Self { children: SharedMap::default(), any: None, here: SharedMap::default(), below: SharedMap::default() }
    }
}

impl<T: Clone> Node<T> {
    fn is_empty(&self) -> bool {
        self.children.is_empty() && self.any.is_none() && self.here.is_empty() && self.below.is_empty()
    }

    /// Adds or replaces a subscription; gives whether one stood there before.
    pub(crate) fn insert(&mut self, filter: &TopicFilter, key: SessionKey, subscriber: Subscriber<T>) -> bool {
        let mut node = self;
        for level in filter.levels() {
            node = match level {
                "#" => return node.below.insert(key, subscriber).is_some(),
                "+" => Arc::make_mut(node.any.get_or_insert_default()),
                level => {
                    if !node.children.contains_key(level) {
                        node.children.insert(level.into(), Arc::default());
                    }
                    let child = node.children.get_mut(level).expect("inserted above if it was missing");
                    Arc::make_mut(child)
                }
            };
        }
        node.here.insert(key, subscriber).is_some()
    }

    /// Removes a subscription and the nodes that nobody needs any more; gives whether it was there.
    pub(crate) fn remove(&mut self, filter: &TopicFilter, key: SessionKey) -> bool {
        let levels: Vec<&str> = filter.levels().collect();
        self.remove_at(&levels, key)
    }

    fn remove_at(&mut self, levels: &[&str], key: SessionKey) -> bool {
        match levels {
            [] => self.here.remove(&key).is_some(),
            ["#"] => self.below.remove(&key).is_some(),
            ["+", rest @ ..] => {
                let Some(child) = &mut self.any else { return false };
                let child = Arc::make_mut(child);
                let removed = child.remove_at(rest, key);
                if child.is_empty() {
                    self.any = None;
                }
                removed
            }
            [level, rest @ ..] => {
                let Some(child) = self.children.get_mut(*level) else { return false };
                let child = Arc::make_mut(child);
                let removed = child.remove_at(rest, key);
                if child.is_empty() {
                    self.children.remove(*level);
                }
                removed
            }
        }
    }

    /// Calls `found` for every subscription that matches, in no order; once for each matching filter (§4.7).
    pub(crate) fn visit<'a>(&'a self, topic: &TopicName, mut found: impl FnMut(SessionKey, &'a Subscriber<T>)) {
        let levels: Vec<&str> = topic.levels().collect();
        // [MQTT-4.7.2-1]: a wildcard at the first level does not match a topic that begins with `$`.
        if topic.is_hidden() {
            if let Some(child) = self.children.get(levels[0]) {
                child.visit_levels(&levels[1..], &mut found);
            }
        } else {
            self.visit_levels(&levels, &mut found);
        }
    }

    fn visit_levels<'a>(&'a self, levels: &[&str], found: &mut impl FnMut(SessionKey, &'a Subscriber<T>)) {
        for (key, subscriber) in &self.below {
            found(*key, subscriber);
        }
        let Some((level, rest)) = levels.split_first() else {
            for (key, subscriber) in &self.here {
                found(*key, subscriber);
            }
            return;
        };
        if let Some(child) = self.children.get(*level) {
            child.visit_levels(rest, found);
        }
        if let Some(child) = &self.any {
            child.visit_levels(rest, found);
        }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::{BTreeSet, HashMap};

    use proptest::prelude::*;

    use super::*;

    fn subscriber() -> Subscriber<()> {
        Subscriber { options: SubscriptionOptions::default(), handle: () }
    }

    fn matching(root: &Node<()>, topic: &TopicName) -> Vec<u64> {
        let mut keys = Vec::new();
        root.visit(topic, |key, _| keys.push(key.0));
        keys.sort_unstable();
        keys
    }

    #[test]
    fn removing_leaves_nothing_behind() {
        let mut root = Node::default();
        let filters: Vec<TopicFilter> = ["harrowmere/+/+/stage/level", "harrowmere/#", "#", "+/gorge", "harrowmere"]
            .map(|f| f.parse().unwrap())
            .into();
        for (key, filter) in filters.iter().enumerate() {
            assert!(!root.insert(filter, SessionKey(key as u64), subscriber()));
            assert!(root.insert(filter, SessionKey(key as u64), subscriber()), "replaced");
        }
        let old = root.clone();
        for (key, filter) in filters.iter().enumerate() {
            assert!(!root.remove(filter, SessionKey(99)));
            assert!(root.remove(filter, SessionKey(key as u64)));
        }
        assert!(root.is_empty());
        let topic = "harrowmere/gorge/kettle-weir/stage/level".parse().unwrap();
        assert_eq!(matching(&old, &topic), [0, 1, 2], "an older version is not disturbed");
    }

    fn level() -> impl Strategy<Value = &'static str> {
        prop::sample::select(vec!["a", "b", "c", "", "$x"])
    }

    fn filter() -> impl Strategy<Value = TopicFilter> {
        let wild = prop_oneof![3 => level(), 1 => Just("+")];
        (prop::collection::vec(wild, 0..4), any::<bool>(), level()).prop_map(|(mut levels, hash, spare)| {
            if hash {
                levels.push("#");
            }
            let text = levels.join("/");
            if text.is_empty() { format!("{spare}/+") } else { text }.parse().unwrap()
        })
    }

    fn topic() -> impl Strategy<Value = TopicName> {
        prop::collection::vec(level(), 1..5)
            .prop_map(|levels| levels.join("/"))
            .prop_filter("a topic has a character", |text| !text.is_empty())
            .prop_map(|text| text.parse().unwrap())
    }

    proptest! {
        /// The trie against the plainest model: every filter tried one by one.
        #[test]
        fn the_trie_finds_what_trying_every_filter_finds(
            changes in prop::collection::vec((filter(), 0..4_u64, any::<bool>()), 0..40),
            topics in prop::collection::vec(topic(), 1..10),
        ) {
            let mut root = Node::default();
            let mut model: HashMap<TopicFilter, BTreeSet<u64>> = HashMap::new();
            for (filter, key, add) in changes {
                let entry = model.entry(filter.clone()).or_default();
                if add {
                    prop_assert_eq!(root.insert(&filter, SessionKey(key), subscriber()), !entry.insert(key));
                } else {
                    prop_assert_eq!(root.remove(&filter, SessionKey(key)), entry.remove(&key));
                }
            }
            for topic in topics {
                let mut expected: Vec<u64> =
                    model.iter().filter(|(filter, _)| filter.matches(&topic)).flat_map(|(_, keys)| keys).copied().collect();
                expected.sort_unstable();
                prop_assert_eq!(matching(&root, &topic), expected, "{}", topic);
            }
        }
    }
}
