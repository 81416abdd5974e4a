//! The subscription index: a trie over topic levels that shares its structure between versions.
//!
//! A change copies only the nodes on its path and yields a new root; whoever reads the old root is not disturbed.
//! So readers need no lock, and a snapshot is consistent however long it is held. Levels that no filter parts at stand
//! together at one node, so that a filter of its own takes one, however deep it is.

use std::{
    hash::BuildHasher,
    ops::Range,
    sync::{Arc, atomic::AtomicUsize},
};

use foldhash::fast::RandomState;
use imbl::{GenericHashMap, OrdMap, Vector, shared_ptr::DefaultSharedPtr};
use moorfall_wire::{TopicFilter, TopicName};
use smallvec::SmallVec;

use crate::{Granted, SessionKey, When};

/// A hash map that is cloned in constant time and copies only what a change touches.
pub(crate) type SharedMap<K, V> = GenericHashMap<K, V, RandomState, DefaultSharedPtr>;

/// One session's subscription at a filter, with whatever reaches that session.
#[derive(Clone, Debug)]
pub struct Subscriber<T> {
    /// What it was granted.
    pub granted: Granted,
    /// What the design says of which messages its identity gets, if anything.
    pub when: Option<Arc<Vec<When>>>,
    /// What reaches the session.
    pub handle: T,
}

impl<T> Subscriber<T> {
    /// One of whose identity the design says nothing.
    pub fn new(granted: Granted, handle: T) -> Self {
        Self { granted, when: None, handle }
    }
}

/// Everyone at one filter; takes no more than a pointer where there is nobody, as at most places.
#[derive(Clone, Debug)]
struct Subscribers<T>(Option<Box<Present<T>>>);

/// The same where there is somebody.
#[derive(Clone, Debug)]
struct Present<T> {
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
        Self(None)
    }
}

impl<T> Default for Present<T> {
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
    Many(Box<SharedMap<SessionKey, Subscriber<T>>>),
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
                *self = Self::Many(Box::new(many));
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
            Self::Many(many) => (None, Some(&**many)),
        };
        let few = few.into_iter().map(|(key, subscriber)| (*key, subscriber));
        few.chain(many.into_iter().flatten().map(|(key, subscriber)| (*key, subscriber)))
    }
}

impl<T: Clone> Present<T> {
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

impl<T: Clone> Subscribers<T> {
    fn each<'a>(&'a self, filter: &str, found: &mut impl FnMut(&str, SessionKey, &'a Subscriber<T>)) {
        if let Some(present) = &self.0 {
            present.each(filter, found);
        }
    }

    fn is_empty(&self) -> bool {
        self.0.is_none()
    }

    fn insert(&mut self, shared: Option<&TopicFilter>, key: SessionKey, subscriber: Subscriber<T>) -> bool {
        self.0.get_or_insert_default().insert(shared, key, subscriber)
    }

    fn remove(&mut self, shared: Option<&TopicFilter>, key: SessionKey) -> bool {
        let Some(present) = &mut self.0 else { return false };
        let removed = present.remove(shared, key);
        self.0.take_if(|present| present.is_empty());
        removed
    }

    fn group(&self, filter: &TopicFilter) -> Option<Arc<Members<T>>> {
        self.0.as_ref()?.groups.as_ref()?.get(filter).cloned()
    }

    fn visit<'a>(&'a self, found: &mut impl FnMut(Found<'a, T>)) {
        if let Some(present) = &self.0 {
            present.visit(found);
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

/// The levels, spelled out, that lead from one node to the next: as many as no filter parts at or ends at. They are told
/// apart by the first one. Their text is a part of the filter's that brought them.
#[derive(Clone, Debug)]
struct Label {
    text: Arc<str>,
    start: u32,
    end: u32,
}

/// The level of a filter that begins at a place; `None` behind the last one.
fn level(text: &str, at: usize) -> Option<&str> {
    text.get(at..)?.split('/').next()
}

impl Label {
    /// A part of a filter, which has 65,535 bytes at most.
    fn new(text: &Arc<str>, part: Range<usize>) -> Self {
        Self { text: Arc::clone(text), start: part.start as u32, end: part.end as u32 }
    }

    fn as_str(&self) -> &str {
        &self.text[self.start as usize..self.end as usize]
    }

    fn levels(&self) -> impl Iterator<Item = &str> {
        self.as_str().split('/')
    }

    fn first(&self) -> &str {
        self.levels().next().unwrap_or_default()
    }

    /// Bytes of the levels, from the first, that it has in common with these; the first one is the same.
    fn common(&self, other: &str) -> usize {
        let same = self.levels().zip(other.split('/')).take_while(|(mine, other)| mine == other);
        same.map(|(level, _)| level.len() + 1).sum::<usize>() - 1
    }

    /// How many levels it has, if all of them are the first of these.
    fn leads_to(&self, levels: &[&str]) -> Option<usize> {
        let mut count = 0;
        for level in self.levels() {
            if levels.get(count) != Some(&level) {
                return None;
            }
            count += 1;
        }
        Some(count)
    }

    /// The levels in the first so many bytes, and the others.
    fn split_at(&self, bytes: usize) -> (Self, Self) {
        let at = self.start + bytes as u32;
        (Self { end: at, ..self.clone() }, Self { start: at + 1, ..self.clone() })
    }

    fn joined(&self, behind: &Self) -> Self {
        if Arc::ptr_eq(&self.text, &behind.text) && self.end + 1 == behind.start {
            return Self { end: behind.end, ..self.clone() };
        }
        let text: Arc<str> = format!("{}/{}", self.as_str(), behind.as_str()).into();
        let all = 0..text.len();
        Self::new(&text, all)
    }
}

/// A node, and the levels that lead to it.
#[derive(Clone, Debug)]
struct Child<T> {
    /// Of the first level.
    hash: u32,
    label: Label,
    node: Arc<Node<T>>,
}

/// Nodes by the levels that lead to them.
#[derive(Clone, Debug)]
enum Children<T> {
    /// Few, in no order.
    Few(Vec<Child<T>>),
    Many(Box<Buckets<T>>),
}

/// Children that are gone through one by one.
const FEW: usize = 8;

/// Many children, by their hashes (linear hashing): one bucket is split when they have become more, so that no change takes
/// longer than others. A clone shares what does not change. A map of hashes that shares its structure would take a kilobyte
/// for each few of them.
#[derive(Clone, Debug)]
struct Buckets<T> {
    /// A bucket more is made by splitting the one whose hashes end with the same bits.
    buckets: Vector<Option<Arc<[Child<T>]>>>,
    count: usize,
    hasher: RandomState,
}

impl<T: Clone> Buckets<T> {
    /// Children of a bucket, about.
    const LOAD: usize = 6;

    fn new(children: Vec<Child<T>>) -> Self {
        let mut buckets = Self { buckets: Vector::unit(None), count: 0, hasher: RandomState::default() };
        children.into_iter().for_each(|child| buckets.insert(child.label, child.node));
        buckets
    }

    fn hash(&self, first: &str) -> u32 {
        self.hasher.hash_one(first) as u32
    }

    /// The bucket of a hash when there are so many.
    fn place(hash: u32, count: usize) -> usize {
        let power = count.next_power_of_two();
        let place = hash as usize & (power - 1);
        if place < count { place } else { place & (power / 2 - 1) }
    }

    fn bucket(&self, place: usize) -> &[Child<T>] {
        self.buckets.get(place).and_then(|bucket| bucket.as_deref()).unwrap_or_default()
    }

    fn set(&mut self, place: usize, children: impl Iterator<Item = Child<T>>) {
        let children: Arc<[Child<T>]> = children.collect();
        self.buckets.set(place, (!children.is_empty()).then_some(children));
    }

    fn find(&self, first: &str) -> Option<(usize, usize)> {
        let hash = self.hash(first);
        let place = Self::place(hash, self.buckets.len());
        let is_it = |child: &Child<T>| child.hash == hash && child.label.first() == first;
        Some((place, self.bucket(place).iter().position(is_it)?))
    }

    fn get(&self, first: &str) -> Option<&Child<T>> {
        let (place, index) = self.find(first)?;
        self.bucket(place).get(index)
    }

    fn get_mut(&mut self, first: &str) -> Option<&mut Arc<Node<T>>> {
        let (place, index) = self.find(first)?;
        let bucket = self.buckets.get_mut(place)?.as_mut()?;
        Arc::make_mut(bucket).get_mut(index).map(|child| &mut child.node)
    }

    fn insert(&mut self, label: Label, node: Arc<Node<T>>) {
        let hash = self.hash(label.first());
        let place = Self::place(hash, self.buckets.len());
        let children = self.bucket(place).iter().cloned().chain([Child { hash, label, node }]).collect::<Vec<_>>();
        self.set(place, children.into_iter());
        self.count += 1;
        let count = self.buckets.len();
        if self.count > count * Self::LOAD {
            let split = Self::place(count as u32, count);
            let all = self.bucket(split).to_vec();
            self.buckets.push_back(None);
            let (moved, stay): (Vec<_>, Vec<_>) =
                all.into_iter().partition(|child| Self::place(child.hash, count + 1) == count);
            self.set(split, stay.into_iter());
            self.set(count, moved.into_iter());
        }
    }

    fn remove(&mut self, first: &str) -> Option<Child<T>> {
        let (place, index) = self.find(first)?;
        let mut children = self.bucket(place).to_vec();
        let removed = children.swap_remove(index);
        self.set(place, children.into_iter());
        self.count -= 1;
        let count = self.buckets.len();
        if count > 1 && self.count < count * Self::LOAD / 3 {
            let last = self.buckets.pop_back().flatten();
            let other = Self::place(count as u32 - 1, count - 1);
            let all = self.bucket(other).iter().chain(last.iter().flat_map(|last| last.iter())).cloned();
            let all = all.collect::<Vec<_>>();
            self.set(other, all.into_iter());
        }
        Some(removed)
    }

    fn iter(&self) -> impl Iterator<Item = &Child<T>> {
        self.buckets.iter().flatten().flat_map(|bucket| bucket.iter())
    }
}

impl<T: Clone> Children<T> {
    fn is_empty(&self) -> bool {
        self.iter().next().is_none()
    }

    fn get(&self, first: &str) -> Option<&Child<T>> {
        match self {
            Self::Few(few) => few.iter().find(|child| child.label.first() == first),
            Self::Many(many) => many.get(first),
        }
    }

    fn get_mut(&mut self, first: &str) -> Option<&mut Arc<Node<T>>> {
        match self {
            Self::Few(few) => few.iter_mut().find(|child| child.label.first() == first).map(|child| &mut child.node),
            Self::Many(many) => many.get_mut(first),
        }
    }

    /// Puts in one whose first level no other has.
    fn insert(&mut self, label: Label, node: Arc<Node<T>>) {
        match self {
            Self::Few(few) => {
                few.reserve_exact(1);
                few.push(Child { hash: 0, label, node });
                if few.len() > FEW {
                    *self = Self::Many(Box::new(Buckets::new(std::mem::take(few))));
                }
            }
            Self::Many(many) => many.insert(label, node),
        }
    }

    fn remove(&mut self, first: &str) -> Option<Child<T>> {
        match self {
            Self::Few(few) => {
                let at = few.iter().position(|child| child.label.first() == first)?;
                let removed = few.swap_remove(at);
                few.shrink_to_fit();
                Some(removed)
            }
            Self::Many(many) => {
                let removed = many.remove(first);
                if many.count <= FEW / 2 {
                    *self = Self::Few(many.iter().cloned().collect());
                }
                removed
            }
        }
    }

    fn iter(&self) -> impl Iterator<Item = &Child<T>> {
        let (few, many) = match self {
            Self::Few(few) => (Some(few), None),
            Self::Many(many) => (None, Some(many)),
        };
        few.into_iter().flatten().chain(many.into_iter().flat_map(|many| many.iter()))
    }
}

/// All filters that begin with the same levels.
#[derive(Clone, Debug)]
pub(crate) struct Node<T> {
    /// When the next levels are spelled out.
    children: Children<T>,
    /// When the next level is `+`.
    any: Option<Arc<Node<T>>>,
    /// Filters that end here.
    here: Subscribers<T>,
    /// Filters that end here with `/#`: they match this level too, and everything below.
    below: Subscribers<T>,
}

impl<T> Default for Node<T> {
    fn default() -> Self {
        let (here, below) = Default::default();
        Self { children: Children::Few(Vec::new()), any: None, here, below }
    }
}

impl<T: Clone> Node<T> {
    fn is_empty(&self) -> bool {
        self.children.is_empty() && self.leads_on()
    }

    /// Whether no filter ends here or goes on with a wildcard.
    fn leads_on(&self) -> bool {
        self.any.is_none() && self.here.is_empty() && self.below.is_empty()
    }

    /// Adds or replaces a subscription; gives whether one stood there before.
    pub(crate) fn insert(&mut self, filter: &TopicFilter, key: SessionKey, subscriber: Subscriber<T>) -> bool {
        let inner = filter.shared().and_then(Result::ok).map(|(_, inner)| inner);
        let shared = inner.is_some().then_some(filter);
        match self.grow(inner.as_ref().unwrap_or(filter).text(), 0) {
            (node, true) => node.below.insert(shared, key, subscriber),
            (node, false) => node.here.insert(shared, key, subscriber),
        }
    }

    /// The node where a filter of which this is left from a place on ends, and whether it does so with `#`.
    fn grow(&mut self, text: &Arc<str>, at: usize) -> (&mut Self, bool) {
        let first = match level(text, at) {
            None => return (self, false),
            Some("#") => return (self, true),
            Some("+") => return Arc::make_mut(self.any.get_or_insert_default()).grow(text, at + 2),
            Some(first) => first,
        };
        let mut end = at + first.len();
        while let Some(next) = level(text, end + 1).filter(|next| !matches!(*next, "+" | "#")) {
            end += 1 + next.len();
        }
        let known =
            self.children.get(first).map(|child| (child.label.common(&text[at..end]), child.label.as_str().len()));
        let common = match known {
            None => {
                self.children.insert(Label::new(text, at..end), Arc::default());
                end - at
            }
            Some((common, all)) => {
                if common < all {
                    self.part(first, common);
                }
                common
            }
        };
        let child = self.children.get_mut(first).expect("inserted above if it was missing");
        Arc::make_mut(child).grow(text, at + common + 1)
    }

    /// Puts a node between this one and a child, behind the levels in so many bytes.
    fn part(&mut self, first: &str, bytes: usize) {
        let Some(Child { label, node, .. }) = self.children.remove(first) else { return };
        let (before, behind) = label.split_at(bytes);
        let mut between = Self::default();
        between.children.insert(behind, node);
        self.children.insert(before, Arc::new(between));
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
        let levels: Vec<&str> = inner.levels().collect();
        let (mut node, mut levels) = (self, &levels[..]);
        loop {
            (node, levels) = match levels {
                [] => return node.here.group(filter),
                ["#"] => return node.below.group(filter),
                ["+", rest @ ..] => (&**node.any.as_ref()?, rest),
                [first, ..] => {
                    let child = node.children.get(first)?;
                    (&*child.node, &levels[child.label.leads_to(levels)?..])
                }
            };
        }
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
            [first, ..] => {
                let Some(count) = self.children.get(first).and_then(|child| child.label.leads_to(levels)) else {
                    return false;
                };
                let Some(child) = self.children.get_mut(first) else { return false };
                let child = Arc::make_mut(child);
                let removed = child.remove_at(&levels[count..], shared, key);
                if child.is_empty() {
                    self.children.remove(first);
                } else if child.leads_on() {
                    self.unite(first);
                }
                removed
            }
        }
    }

    /// Takes out the node behind a child's levels, if it only leads to one other.
    fn unite(&mut self, first: &str) {
        let Some(Child { label, node, .. }) = self.children.get(first) else { return };
        let mut all = node.children.iter();
        let (Some(behind), None) = (all.next(), all.next()) else { return };
        let (label, node) = (label.joined(&behind.label), Arc::clone(&behind.node));
        drop(all);
        self.children.remove(first);
        self.children.insert(label, node);
    }

    /// Calls `found` for every subscription, with its whole filter.
    pub(crate) fn each<'a>(&'a self, found: &mut impl FnMut(&str, SessionKey, &'a Subscriber<T>)) {
        for Child { label, node, .. } in self.children.iter() {
            node.each_below(label.as_str(), found);
        }
        if let Some(child) = &self.any {
            child.each_below("+", found);
        }
        self.below.each("#", found);
    }

    fn each_below<'a>(&'a self, path: &str, found: &mut impl FnMut(&str, SessionKey, &'a Subscriber<T>)) {
        self.here.each(path, found);
        self.below.each(&format!("{path}/#"), found);
        for Child { label, node, .. } in self.children.iter() {
            node.each_below(&format!("{path}/{}", label.as_str()), found);
        }
        if let Some(child) = &self.any {
            child.each_below(&format!("{path}/+"), found);
        }
    }

    /// Calls `found` for everyone that matches, in no order; once for each matching filter (§4.7).
    pub(crate) fn visit<'a>(&'a self, topic: &TopicName, mut found: impl FnMut(Found<'a, T>)) {
        let levels: SmallVec<[&str; 16]> = topic.levels().collect();
        // [MQTT-4.7.2-1]: a wildcard at the first level does not match a topic that begins with `$`.
        if topic.is_hidden() {
            self.visit_child(&levels, &mut found);
        } else {
            self.visit_levels(&levels, &mut found);
        }
    }

    fn visit_levels<'a>(&'a self, levels: &[&str], found: &mut impl FnMut(Found<'a, T>)) {
        self.below.visit(found);
        let Some((_, rest)) = levels.split_first() else { return self.here.visit(found) };
        self.visit_child(levels, found);
        if let Some(child) = &self.any {
            child.visit_levels(rest, found);
        }
    }

    fn visit_child<'a>(&'a self, levels: &[&str], found: &mut impl FnMut(Found<'a, T>)) {
        if let Some(Child { label, node, .. }) = self.children.get(levels[0])
            && let Some(count) = label.leads_to(levels)
        {
            node.visit_levels(&levels[count..], found);
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
        let options = SubscriptionOptions::default();
        Subscriber { granted: Granted { options, identifier: None, condition: None }, when: None, handle: () }
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
        assert!(root.is_empty() && root.children.is_empty());
        let topic = "harrowmere/gorge/kettle-weir/stage/level".parse().unwrap();
        assert_eq!(matching(&old, &topic), [0, 1, 2, 5], "an older version is not disturbed");
    }

    #[test]
    fn many_children_are_found_and_taken_out_while_their_buckets_are_split_and_joined() {
        let filter = |number: u64| format!("harrowmere/gauge-{number}/stage/level").parse::<TopicFilter>().unwrap();
        let topic = |number: u64| filter(number).parse::<TopicName>().unwrap();
        let mut root = Node::default();
        for number in 0..3_000 {
            assert!(!root.insert(&filter(number), SessionKey(number), subscriber()));
            if number % 7 == 0 {
                assert!(root.remove(&filter(number / 2), SessionKey(number / 2)));
                assert!(!root.insert(&filter(number / 2), SessionKey(number / 2), subscriber()));
            }
        }
        let all = root.clone();
        for number in 0..3_000 {
            assert_eq!(matching(&root, &topic(number)), [number]);
            assert!(root.remove(&filter(number), SessionKey(number)));
            assert_eq!(matching(&root, &topic(number)), [0_u64; 0]);
            assert!(number == 2_999 || matching(&root, &topic(2_999)) == [2_999]);
        }
        assert!(root.is_empty());
        assert!(
            (0..3_000).all(|number| matching(&all, &topic(number)) == [number]),
            "an older version is not disturbed"
        );
    }

    fn level() -> impl Strategy<Value = &'static str> {
        prop::sample::select(vec!["a", "b", "c", "d", "ab", "e", "f", "g", "h", "i", "j", "", "$x"])
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

    /// Whether no node could be left out.
    fn is_tight(node: &Node<()>, has_to_be: bool) -> bool {
        let is_needed = has_to_be || !node.leads_on() || node.children.iter().count() > 1;
        let is_any_tight = node.any.as_ref().is_none_or(|any| !any.is_empty() && is_tight(any, true));
        is_needed && is_any_tight && node.children.iter().all(|child| is_tight(&child.node, false))
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
                prop_assert!(is_tight(&root, true), "{:?}", root);
            }
            let mut all = BTreeSet::new();
            root.each(&mut |filter, key, _| {
                all.insert((filter.to_owned(), key.0));
            });
            let expected: BTreeSet<_> =
                model.iter().flat_map(|(filter, keys)| keys.iter().map(|key| (filter.to_string(), *key))).collect();
            prop_assert_eq!(all, expected);
            for topic in topics {
                let mut expected: Vec<u64> =
                    model.iter().filter(|(filter, _)| matches(filter, &topic)).flat_map(|(_, keys)| keys).copied().collect();
                expected.sort_unstable();
                prop_assert_eq!(matching(&root, &topic), expected, "{}", topic);
            }
        }
    }
}
