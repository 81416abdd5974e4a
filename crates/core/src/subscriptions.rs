//! The subscription index: a trie over topic levels that shares its structure between versions.
//!
//! A change copies only the nodes on its path and yields a new root; whoever reads the old root is not disturbed.
//! So readers need no lock, and a snapshot is consistent however long it is held.

use std::sync::{Arc, atomic::AtomicUsize};

use foldhash::fast::RandomState;
use imbl::{GenericHashMap, OrdMap, shared_ptr::DefaultSharedPtr};
use moorfall_wire::{TopicFilter, TopicName};

use crate::{SessionKey, session::Granted};

/// A hash map that is cloned in constant time and copies only what a change touches.
pub(crate) type SharedMap<K, V> = GenericHashMap<K, V, RandomState, DefaultSharedPtr>;

/// One session's subscription at a filter, with whatever reaches that session.
#[derive(Clone, Debug)]
pub(crate) struct Subscriber<T> {
    pub(crate) granted: Granted,
    pub(crate) handle: T,
}

/// Everyone at one filter.
#[derive(Clone, Debug)]
struct Subscribers<T> {
    each: Each<T>,
    /// Members of shared subscriptions by the whole filter, group included. Boxed: most filters have none.
    groups: Option<Arc<SharedMap<TopicFilter, Arc<Members<T>>>>>,
}

/// The members of one shared subscription.
#[derive(Clone, Debug)]
pub(crate) struct Members<T> {
    /// In the order of their keys, so that turns go round.
    pub(crate) by_key: OrdMap<SessionKey, Subscriber<T>>,
    /// Whose turn it is; one for all versions of the index and all routes.
    pub(crate) turn: Arc<AtomicUsize>,
}

impl<T> Default for Members<T> {
    fn default() -> Self {
        Self { by_key: OrdMap::default(), turn: Arc::default() }
    }
}

impl<T> Default for Subscribers<T> {
    fn default() -> Self {
        Self { each: Each::Few(None), groups: None }
    }
}

/// Sessions at one filter. Most filters are one session's own, and a map for one entry takes a kilobyte.
#[derive(Clone, Debug)]
enum Each<T> {
    /// At most one.
    Few(Option<(SessionKey, Subscriber<T>)>),
    /// Any number.
    Many(SharedMap<SessionKey, Subscriber<T>>),
}

impl<T: Clone> Each<T> {
    fn is_empty(&self) -> bool {
        match self {
            Self::Few(one) => one.is_none(),
            Self::Many(many) => many.is_empty(),
        }
    }

    fn insert(&mut self, key: SessionKey, subscriber: Subscriber<T>) -> bool {
        match self {
            Self::Few(None) => {
                *self = Self::Few(Some((key, subscriber)));
                false
            }
            Self::Few(Some((known, place))) if *known == key => {
                *place = subscriber;
                true
            }
            Self::Few(one) => {
                let mut many: SharedMap<SessionKey, Subscriber<T>> = one.take().into_iter().collect();
                many.insert(key, subscriber);
                *self = Self::Many(many);
                false
            }
            Self::Many(many) => many.insert(key, subscriber).is_some(),
        }
    }

    fn remove(&mut self, key: SessionKey) -> bool {
        match self {
            Self::Few(one) => one.take_if(|(known, _)| *known == key).is_some(),
            Self::Many(many) => {
                let removed = many.remove(&key).is_some();
                if many.len() <= 1 {
                    let one = many.iter().next().map(|(key, subscriber)| (*key, subscriber.clone()));
                    *self = Self::Few(one);
                }
                removed
            }
        }
    }

    fn iter(&self) -> impl Iterator<Item = (SessionKey, &Subscriber<T>)> {
        let (few, many) = match self {
            Self::Few(one) => (one.as_ref(), None),
            Self::Many(many) => (None, Some(many)),
        };
        let few = few.into_iter().map(|(key, subscriber)| (*key, subscriber));
        few.chain(many.into_iter().flatten().map(|(key, subscriber)| (*key, subscriber)))
    }
}

impl<T: Clone> Subscribers<T> {
    fn each<'a>(&'a self, filter: &str, found: &mut impl FnMut(&str, SessionKey, &'a Subscriber<T>)) {
        for (key, subscriber) in self.each.iter() {
            found(filter, key, subscriber);
        }
        for (shared, members) in self.groups.iter().flat_map(|groups| groups.iter()) {
            for (key, subscriber) in &members.by_key {
                found(shared, *key, subscriber);
            }
        }
    }

    fn is_empty(&self) -> bool {
        self.each.is_empty() && self.groups.is_none()
    }

    fn insert(&mut self, shared: Option<&TopicFilter>, key: SessionKey, subscriber: Subscriber<T>) -> bool {
        let Some(filter) = shared else { return self.each.insert(key, subscriber) };
        let groups = Arc::make_mut(self.groups.get_or_insert_default());
        if !groups.contains_key(filter) {
            groups.insert(filter.clone(), Arc::default());
        }
        let members = groups.get_mut(filter).expect("inserted above if it was missing");
        Arc::make_mut(members).by_key.insert(key, subscriber).is_some()
    }

    fn remove(&mut self, shared: Option<&TopicFilter>, key: SessionKey) -> bool {
        let Some(filter) = shared else { return self.each.remove(key) };
        let Some(groups) = &mut self.groups else { return false };
        let groups = Arc::make_mut(groups);
        let Some(members) = groups.get_mut(filter) else { return false };
        let members = Arc::make_mut(members);
        let removed = members.by_key.remove(&key).is_some();
        if members.by_key.is_empty() {
            groups.remove(filter);
        }
        if groups.is_empty() {
            self.groups = None;
        }
        removed
    }

    fn visit<'a>(&'a self, found: &mut impl FnMut(Found<'a, T>)) {
        for (key, subscriber) in self.each.iter() {
            found(Found::Subscriber(key, subscriber));
        }
        for (filter, members) in self.groups.iter().flat_map(|groups| groups.iter()) {
            found(Found::Group(filter, members));
        }
    }
}

/// Who a matching filter leads to.
pub(crate) enum Found<'a, T> {
    /// A session by a subscription of its own.
    Subscriber(SessionKey, &'a Subscriber<T>),
    /// A shared subscription: one of its members (§4.8.2).
    Group(&'a TopicFilter, &'a Arc<Members<T>>),
}

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
        Self { children: SharedMap::default(), any: None, here: Subscribers::default(), below: Subscribers::default() }
    }
}

impl<T: Clone> Node<T> {
    fn is_empty(&self) -> bool {
        self.children.is_empty() && self.any.is_none() && self.here.is_empty() && self.below.is_empty()
    }

    /// Adds or replaces a subscription; gives whether one stood there before.
    pub(crate) fn insert(&mut self, filter: &TopicFilter, key: SessionKey, subscriber: Subscriber<T>) -> bool {
        let inner = filter.shared().and_then(Result::ok).map(|(_, inner)| inner);
        let shared = inner.is_some().then_some(filter);
        let mut node = self;
        for level in inner.as_ref().unwrap_or(filter).levels() {
            node = match level {
                "#" => return node.below.insert(shared, key, subscriber),
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
        node.here.insert(shared, key, subscriber)
    }

    /// Removes a subscription and the nodes that nobody needs any more; gives whether it was there.
    pub(crate) fn remove(&mut self, filter: &TopicFilter, key: SessionKey) -> bool {
        let inner = filter.shared().and_then(Result::ok).map(|(_, inner)| inner);
        let shared = inner.is_some().then_some(filter);
        let levels: Vec<&str> = inner.as_ref().unwrap_or(filter).levels().collect();
        self.remove_at(&levels, shared, key)
    }

    /// The members of a shared subscription.
    pub(crate) fn members(&self, filter: &TopicFilter) -> Option<Arc<Members<T>>> {
        let (_, inner) = filter.shared()?.ok()?;
        let mut node = self;
        for level in inner.levels() {
            node = match level {
                "#" => return node.below.groups.as_ref()?.get(filter).cloned(),
                "+" => node.any.as_ref()?,
                level => node.children.get(level)?,
            };
        }
        node.here.groups.as_ref()?.get(filter).cloned()
    }

    fn remove_at(&mut self, levels: &[&str], shared: Option<&TopicFilter>, key: SessionKey) -> bool {
        match levels {
            [] => self.here.remove(shared, key),
            ["#"] => self.below.remove(shared, key),
            ["+", rest @ ..] => {
                let Some(child) = &mut self.any else { return false };
                let child = Arc::make_mut(child);
                let removed = child.remove_at(rest, shared, key);
                if child.is_empty() {
                    self.any = None;
                }
                removed
            }
            [level, rest @ ..] => {
                let Some(child) = self.children.get_mut(*level) else { return false };
                let child = Arc::make_mut(child);
                let removed = child.remove_at(rest, shared, key);
                if child.is_empty() {
                    self.children.remove(*level);
                }
                removed
            }
        }
    }

    /// Calls `found` for every subscription, with its whole filter.
    pub(crate) fn each<'a>(&'a self, found: &mut impl FnMut(&str, SessionKey, &'a Subscriber<T>)) {
        for (level, child) in &self.children {
            child.each_below(level, found);
        }
        if let Some(child) = &self.any {
            child.each_below("+", found);
        }
        self.below.each("#", found);
    }

    fn each_below<'a>(&'a self, path: &str, found: &mut impl FnMut(&str, SessionKey, &'a Subscriber<T>)) {
        self.here.each(path, found);
        self.below.each(&format!("{path}/#"), found);
        for (level, child) in &self.children {
            child.each_below(&format!("{path}/{level}"), found);
        }
        if let Some(child) = &self.any {
            child.each_below(&format!("{path}/+"), found);
        }
    }

    /// Calls `found` for everyone that matches, in no order; once for each matching filter (§4.7).
    pub(crate) fn visit<'a>(&'a self, topic: &TopicName, mut found: impl FnMut(Found<'a, T>)) {
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

    fn visit_levels<'a>(&'a self, levels: &[&str], found: &mut impl FnMut(Found<'a, T>)) {
        self.below.visit(found);
        let Some((level, rest)) = levels.split_first() else { return self.here.visit(found) };
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

    use moorfall_wire::SubscriptionOptions;
    use proptest::prelude::*;

    use super::*;

    fn subscriber() -> Subscriber<()> {
        Subscriber { granted: Granted { options: SubscriptionOptions::default(), identifier: None }, handle: () }
    }

    fn matching(root: &Node<()>, topic: &TopicName) -> Vec<u64> {
        let mut keys = Vec::new();
        root.visit(topic, |found| match found {
            Found::Subscriber(key, _) => keys.push(key.0),
            Found::Group(_, members) => keys.extend(members.by_key.keys().map(|key| key.0)),
        });
        keys.sort_unstable();
        keys
    }

    #[test]
    fn removing_leaves_nothing_behind() {
        let mut root = Node::default();
        let filters = [
            "harrowmere/+/+/stage/level",
            "harrowmere/#",
            "#",
            "+/gorge",
            "harrowmere",
            "$share/desk/harrowmere/#",
            "$share/desk/harrowmere",
        ];
        let filters = filters.map(|filter| filter.parse::<TopicFilter>().unwrap());
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
        assert_eq!(matching(&old, &topic), [0, 1, 2, 5], "an older version is not disturbed");
    }

    fn level() -> impl Strategy<Value = &'static str> {
        prop::sample::select(vec!["a", "b", "c", "", "$x"])
    }

    fn filter() -> impl Strategy<Value = TopicFilter> {
        let wild = prop_oneof![3 => level(), 1 => Just("+")];
        let group = prop_oneof![3 => Just(""), 1 => Just("$share/left/"), 1 => Just("$share/right/")];
        (group, prop::collection::vec(wild, 0..4), any::<bool>(), level()).prop_map(
            |(group, mut levels, hash, spare)| {
                if hash {
                    levels.push("#");
                }
                let text = levels.join("/");
                let text = if text.is_empty() { format!("{spare}/+") } else { text };
                format!("{group}{text}").parse().unwrap()
            },
        )
    }

    fn matches(filter: &TopicFilter, topic: &TopicName) -> bool {
        filter.shared().map_or_else(|| filter.matches(topic), |shared| shared.unwrap().1.matches(topic))
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
                    model.iter().filter(|(filter, _)| matches(filter, &topic)).flat_map(|(_, keys)| keys).copied().collect();
                expected.sort_unstable();
                prop_assert_eq!(matching(&root, &topic), expected, "{}", topic);
            }
        }
    }
}
