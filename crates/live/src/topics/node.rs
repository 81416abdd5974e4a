//! One level of the live topic hierarchy: what is counted there, what is below, and how it is looked at.

use std::{
    collections::BTreeMap,
    ops::Bound,
    sync::{
        Arc,
        atomic::{AtomicU32, AtomicU64, AtomicUsize, Ordering},
    },
};

use moorfall_core::Time;
use tracing_mutex::parkinglot::{Mutex, RwLock};

use crate::topics::{gathered::Watch, last_value::LastValue};

/// What a level takes beside its text, bytes.
pub(super) const LEVEL: usize = 200;

/// The time over which a rate is averaged, seconds.
const AVERAGED: f64 = 10.0;

pub(super) type Children = BTreeMap<Box<str>, Arc<Node>>;

/// One level of the hierarchy. Its counts are those of the topic that ends here, if one does, and of all below.
#[derive(Debug, Default)]
pub(super) struct Node {
    /// `None` below most topics.
    pub(super) children: RwLock<Option<Box<Children>>>,
    pub(super) messages: AtomicU64,
    pub(super) bytes: AtomicU64,
    /// A moving average in messages per second, as the bits of an `f32`; above them when it was brought up to date, in
    /// seconds since 1970.
    pub(super) rate: AtomicU64,
    /// Topics that end here or below.
    pub(super) topics: AtomicU32,
    /// What was published here last; `None` if no topic ends here.
    pub(super) leaf: Mutex<Option<Box<Leaf>>>,
}

/// What is known of a topic.
#[derive(Debug)]
pub(super) struct Leaf {
    pub(super) last: LastValue,
    /// Messages and bytes that the branches above do not know of yet.
    pub(super) unsummed: (u64, u64),
    /// Present while somebody looks at it.
    pub(super) watch: Option<Arc<Watch>>,
}

pub(super) fn seconds(now: Time) -> u64 {
    now.as_micros() / 1_000_000
}

impl Node {
    pub(super) fn note(&self, messages: u64, bytes: u64, now: Time) {
        self.messages.fetch_add(messages, Ordering::Relaxed);
        self.bytes.fetch_add(bytes, Ordering::Relaxed);
        let renew = |packed| Some(pack(rate_at(packed, now) + messages as f64 / AVERAGED, now));
        let _renewed = self.rate.fetch_update(Ordering::Relaxed, Ordering::Relaxed, renew);
    }

    pub(super) fn last(&self) -> u64 {
        self.rate.load(Ordering::Relaxed) >> 32
    }

    pub(super) fn child(&self, level: &str) -> Option<Arc<Self>> {
        self.children.read().as_ref()?.get(level).map(Arc::clone)
    }

    pub(super) fn children(&self) -> Vec<(Box<str>, Arc<Self>)> {
        let children = self.children.read();
        children.iter().flat_map(|all| all.iter()).map(|(level, node)| (level.clone(), Arc::clone(node))).collect()
    }

    /// The first so many children behind this name, by name.
    pub(super) fn children_after(&self, after: Option<&str>, most: usize) -> Vec<(Box<str>, Arc<Self>)> {
        let children = self.children.read();
        let Some(all) = children.as_ref() else { return Vec::new() };
        let from = after.map_or(Bound::Unbounded, Bound::Excluded);
        let range = all.range::<str, _>((from, Bound::Unbounded)).take(most);
        range.map(|(level, node)| (level.clone(), Arc::clone(node))).collect()
    }

    pub(super) fn child_count(&self) -> usize {
        self.children.read().as_ref().map_or(0, |children| children.len())
    }

    /// The child of this name, made if there is none; then its bytes are counted.
    pub(super) fn grow(&self, level: &str, made: &AtomicUsize) -> Arc<Self> {
        if let Some(child) = self.child(level) {
            return child;
        }
        let mut children = self.children.write();
        let make = || {
            made.fetch_add(LEVEL + level.len(), Ordering::Relaxed);
            Arc::default()
        };
        Arc::clone(children.get_or_insert_default().entry(level.into()).or_insert_with(make))
    }

    pub(super) fn view(&self, level: &str, path: String, now: Time) -> View {
        let value = self.leaf.lock().as_ref().map(|leaf| leaf.last.clone());
        View {
            level: level.to_owned(),
            path,
            topics: self.topics.load(Ordering::Relaxed),
            has_children: self.children.read().as_ref().is_some_and(|children| !children.is_empty()),
            is_topic: value.is_some(),
            messages: self.messages.load(Ordering::Relaxed),
            bytes: self.bytes.load(Ordering::Relaxed),
            rate: rate_at(self.rate.load(Ordering::Relaxed), now),
            last: Time::from_micros(self.last() * 1_000_000),
            value,
        }
    }

    /// Calls `found` for each topic at and below this level.
    pub(super) fn each(&self, path: &str, now: Time, found: &mut impl FnMut(Glance<'_>)) {
        let publisher = self.leaf.lock().as_ref().map(|leaf| Arc::clone(&leaf.last.publisher));
        if let Some(publisher) = publisher {
            let rate = rate_at(self.rate.load(Ordering::Relaxed), now);
            found(Glance { path, rate, last: Time::from_micros(self.last() * 1_000_000), publisher });
        }
        for (level, child) in self.children() {
            child.each(&format!("{path}/{level}"), now, found);
        }
    }
}

/// The rate at `now` of what was packed earlier: it fades while nothing comes.
pub(super) fn rate_at(packed: u64, now: Time) -> f64 {
    let rate = f32::from_bits(packed as u32);
    match seconds(now).saturating_sub(packed >> 32) {
        0 => rate.into(),
        waited => f64::from(rate) * (-(waited as f64) / AVERAGED).exp(),
    }
}

fn pack(rate: f64, now: Time) -> u64 {
    (seconds(now) & u64::from(u32::MAX)) << 32 | u64::from((rate as f32).to_bits())
}

/// A level that is looked at from outside.
#[derive(Debug)]
pub struct Walker(pub(super) Arc<Node>);

impl Walker {
    /// Whether a topic ends here.
    pub fn is_topic(&self) -> bool {
        self.0.leaf.lock().is_some()
    }

    /// Topics that end here or below.
    pub fn topics(&self) -> u64 {
        self.0.topics.load(Ordering::Relaxed).into()
    }

    /// The level of this text below, if there is one.
    pub fn child(&self, level: &str) -> Option<Self> {
        self.0.child(level).map(Self)
    }

    /// The levels right below, by name.
    pub fn children(&self) -> Vec<(Box<str>, Self)> {
        self.0.children().into_iter().map(|(level, node)| (level, Self(node))).collect()
    }
}

/// What is known of one level.
#[derive(Clone, Debug)]
pub struct View {
    /// The level's text.
    pub level: String,
    /// The whole path to it.
    pub path: String,
    /// Topics that end here or below.
    pub topics: u32,
    /// Whether there are levels below.
    pub has_children: bool,
    /// Whether a topic ends here.
    pub is_topic: bool,
    /// Messages since the service started.
    pub messages: u64,
    /// Their bytes of payload, topic and properties.
    pub bytes: u64,
    /// Messages per second, averaged over ten seconds.
    pub rate: f64,
    /// When the last message came.
    pub last: Time,
    /// What was published to this very topic last.
    pub value: Option<LastValue>,
}

impl View {
    /// Who published to this very topic last.
    pub fn publisher(&self) -> Option<&Arc<str>> {
        self.value.as_ref().map(|value| &value.publisher)
    }
}

/// What is seen of a topic when all are walked through.
#[derive(Debug)]
pub struct Glance<'a> {
    /// The whole topic.
    pub path: &'a str,
    /// Messages per second, averaged over ten seconds.
    pub rate: f64,
    /// When the last message came.
    pub last: Time,
    /// Who published it.
    pub publisher: Arc<str>,
}
