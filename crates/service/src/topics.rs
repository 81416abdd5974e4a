//! The live topic hierarchy: what was published where, how often and when, as a tree whose branches know their sums.

use std::{
    collections::HashMap,
    sync::{
        Arc,
        atomic::{AtomicU32, AtomicU64, AtomicUsize, Ordering},
    },
};

use foldhash::fast::RandomState;
use moorfall_core::{Message, Time};
use parking_lot::{Mutex, RwLock};

use crate::{
    last_value::LastValue,
    topic_watch::{Gathered, Watch, Watches},
};

/// Levels that are held, all topics together; a topic that would need more is only counted. Bounded by levels and not by
/// topics, since whoever may publish chooses how deep a topic is.
const MOST: usize = 4_000_000;

/// Topics of which numbers are kept.
const NUMBERED: usize = 100_000;

/// The time over which a rate is averaged, seconds.
const AVERAGED: f64 = 10.0;

/// How long an unused topic stays in the tree, seconds.
pub(crate) const FORGOTTEN_AFTER: u64 = 7 * 24 * 3_600;

/// Topics that were published to since this many seconds count as used.
const USED: u64 = 24 * 3_600;

type Children = HashMap<Box<str>, Arc<Node>, RandomState>;

/// One level of the hierarchy. Its counts are those of the topic that ends here, if one does, and of all below.
#[derive(Debug, Default)]
struct Node {
    /// `None` below most topics.
    children: RwLock<Option<Box<Children>>>,
    messages: AtomicU64,
    bytes: AtomicU64,
    /// A moving average in messages per second, as the bits of an `f32`; above them when it was brought up to date, in
    /// seconds since 1970.
    rate: AtomicU64,
    /// Topics that end here or below.
    topics: AtomicU32,
    /// What was published here last; `None` if no topic ends here.
    leaf: Mutex<Option<Box<Leaf>>>,
}

/// What is known of a topic.
#[derive(Debug)]
struct Leaf {
    last: LastValue,
    /// Present while somebody looks at it.
    watch: Option<Arc<Watch>>,
}

/// Messages of one topic that follow each other.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Noted<'a> {
    /// At least one.
    pub(crate) messages: &'a [Arc<Message>],
    /// Bytes of payload, topic and properties of all.
    pub(crate) bytes: u64,
    /// Whose they are.
    pub(crate) publisher: &'a Arc<str>,
}

/// A level that is looked at from outside.
#[derive(Debug)]
pub(crate) struct Walker(Arc<Node>);

impl Walker {
    /// Whether a topic ends here.
    pub(crate) fn is_topic(&self) -> bool {
        self.0.leaf.lock().is_some()
    }

    /// Topics that end here or below.
    pub(crate) fn topics(&self) -> u64 {
        self.0.topics.load(Ordering::Relaxed).into()
    }

    pub(crate) fn child(&self, level: &str) -> Option<Self> {
        self.0.child(level).map(Self)
    }

    /// The levels right below, by name.
    pub(crate) fn children(&self) -> Vec<(Box<str>, Self)> {
        let mut children = self.0.children();
        children.sort_unstable_by(|(one, _), (other, _)| one.cmp(other));
        children.into_iter().map(|(level, node)| (level, Self(node))).collect()
    }
}

/// What is known of one level.
#[derive(Clone, Debug)]
pub(crate) struct View {
    /// The level's text.
    pub(crate) level: String,
    /// The whole path to it.
    pub(crate) path: String,
    /// Topics that end here or below.
    pub(crate) topics: u32,
    /// Whether there are levels below.
    pub(crate) has_children: bool,
    /// Whether a topic ends here.
    pub(crate) is_topic: bool,
    pub(crate) messages: u64,
    pub(crate) bytes: u64,
    /// Messages per second, averaged over ten seconds.
    pub(crate) rate: f64,
    /// When the last message came.
    pub(crate) last: Time,
    /// What was published to this very topic last.
    pub(crate) value: Option<LastValue>,
}

impl View {
    /// Who published to this very topic last.
    pub(crate) fn publisher(&self) -> Option<&Arc<str>> {
        self.value.as_ref().map(|value| &value.publisher)
    }
}

/// What is seen of a topic when all are walked through.
#[derive(Debug)]
pub(crate) struct Glance<'a> {
    pub(crate) path: &'a str,
    /// Messages per second, averaged over ten seconds.
    pub(crate) rate: f64,
    /// When the last message came.
    pub(crate) last: Time,
    /// Who published it.
    pub(crate) publisher: Arc<str>,
}

/// Which levels come first.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum First {
    ByName,
    /// The busiest.
    ByRate,
}

fn seconds(now: Time) -> u64 {
    now.as_micros() / 1_000_000
}

impl Node {
    fn note(&self, messages: u64, bytes: u64, now: Time) {
        self.messages.fetch_add(messages, Ordering::Relaxed);
        self.bytes.fetch_add(bytes, Ordering::Relaxed);
        let renew = |packed| Some(pack(rate_at(packed, now) + messages as f64 / AVERAGED, now));
        let _renewed = self.rate.fetch_update(Ordering::Relaxed, Ordering::Relaxed, renew);
    }

    fn last(&self) -> u64 {
        self.rate.load(Ordering::Relaxed) >> 32
    }

    fn child(&self, level: &str) -> Option<Arc<Self>> {
        self.children.read().as_ref()?.get(level).map(Arc::clone)
    }

    fn children(&self) -> Vec<(Box<str>, Arc<Self>)> {
        let children = self.children.read();
        children.iter().flat_map(|all| all.iter()).map(|(level, node)| (level.clone(), Arc::clone(node))).collect()
    }

    /// The child of this name, made if there is none; then it is counted.
    fn grow(&self, level: &str, made: &AtomicUsize) -> Arc<Self> {
        if let Some(child) = self.child(level) {
            return child;
        }
        let mut children = self.children.write();
        let make = || {
            made.fetch_add(1, Ordering::Relaxed);
            Arc::default()
        };
        Arc::clone(children.get_or_insert_default().entry(level.into()).or_insert_with(make))
    }

    /// How many levels there are at and below this one.
    fn size(&self) -> usize {
        1 + self.children().iter().map(|(_, child)| child.size()).sum::<usize>()
    }

    fn view(&self, level: &str, path: String, now: Time) -> View {
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
    fn each(&self, path: &str, now: Time, found: &mut impl FnMut(Glance<'_>)) {
        let publisher = self.leaf.lock().as_ref().map(|leaf| Arc::clone(&leaf.last.publisher));
        if let Some(publisher) = publisher {
            let rate = rate_at(self.rate.load(Ordering::Relaxed), now);
            found(Glance { path, rate, last: Time::from_micros(self.last() * 1_000_000), publisher });
        }
        for (level, child) in self.children() {
            child.each(&format!("{path}/{level}"), now, found);
        }
    }

    /// Removes topics that were not published to since a time; gives how many.
    fn forget(&self, before: u64, numbered: &AtomicUsize) -> u32 {
        let mut forgotten = 0;
        {
            let mut leaf = self.leaf.lock();
            if let Some(gone) = leaf.take_if(|_| self.last() < before) {
                numbered.fetch_sub(usize::from(gone.last.has_numbers()), Ordering::Relaxed);
                forgotten += 1;
            }
        }
        forgotten += self.children().iter().map(|(_, child)| child.forget(before, numbered)).sum::<u32>();
        self.topics.fetch_sub(forgotten, Ordering::Relaxed);
        let mut children = self.children.write();
        if let Some(all) = children.as_mut() {
            all.retain(|_, child| child.topics.load(Ordering::Relaxed) > 0);
            if all.is_empty() {
                *children = None;
            }
        }
        forgotten
    }
}

/// Leaves the first of them, in order.
fn shorten<T>(all: &mut Vec<T>, most: usize, order: impl Fn(&T, &T) -> std::cmp::Ordering) {
    if all.len() > most && most > 0 {
        all.select_nth_unstable_by(most - 1, &order);
    }
    all.truncate(most);
    all.sort_unstable_by(order);
}

/// The rate at `now` of what was packed earlier: it fades while nothing comes.
fn rate_at(packed: u64, now: Time) -> f64 {
    let rate = f32::from_bits(packed as u32);
    match seconds(now).saturating_sub(packed >> 32) {
        0 => rate.into(),
        waited => f64::from(rate) * (-(waited as f64) / AVERAGED).exp(),
    }
}

fn pack(rate: f64, now: Time) -> u64 {
    (seconds(now) & u64::from(u32::MAX)) << 32 | u64::from((rate as f32).to_bits())
}

/// The way to one topic.
#[derive(Clone, Debug)]
pub(crate) struct Path(Arc<[Arc<Node>]>);

impl Path {
    /// Notes messages of one topic; gives whether the topic is in the hierarchy still. If not, the way is to be looked
    /// up again.
    pub(crate) fn note(&self, topics: &Topics, noted: Noted<'_>, now: Time) -> bool {
        let (Some(topic), Some(last)) = (self.0.last(), noted.messages.last()) else { return false };
        {
            let mut leaf = topic.leaf.lock();
            let Some(leaf) = &mut *leaf else { return false };
            leaf.last.set(last, noted.publisher, now, || topics.takes_numbers());
            if let Some(watch) = leaf.watch.take_if(|watch| !watch.is_left(now)) {
                watch.take(noted.messages, noted.publisher, now);
                leaf.watch = Some(watch);
            }
        }
        self.0.iter().for_each(|node| node.note(noted.messages.len() as u64, noted.bytes, now));
        true
    }
}

/// The live topic hierarchy.
#[derive(Debug, Default)]
pub(crate) struct Topics {
    root: Arc<Node>,
    /// Levels that are held.
    nodes: AtomicUsize,
    /// Held for reading while a way is made, for writing while what is not used is removed: a way that is half made must
    /// not be taken away.
    shape: RwLock<()>,
    /// Messages on topics beyond what is followed.
    pub(crate) unfollowed: AtomicU64,
    /// Topics of which numbers are kept.
    numbered: AtomicUsize,
    watches: Watches,
}

impl Topics {
    /// Notes messages of a topic and gives the way to it, which makes it quicker the next time; `None` when as many
    /// topics are followed as may be.
    pub(crate) fn note(&self, topic: &str, noted: Noted<'_>, now: Time) -> Option<Path> {
        let _as_it_is = self.shape.read();
        let levels = topic.split('/').count();
        if self.nodes.load(Ordering::Relaxed) + levels > self.most() && self.find(topic).is_none() {
            self.unfollowed.fetch_add(noted.messages.len() as u64, Ordering::Relaxed);
            return None;
        }
        let mut path = vec![Arc::clone(&self.root)];
        for level in topic.split('/') {
            let child = path[path.len() - 1].grow(level, &self.nodes);
            path.push(child);
        }
        {
            let mut leaf = path[path.len() - 1].leaf.lock();
            if leaf.is_none() {
                let last = LastValue::new(noted.publisher, now);
                *leaf = Some(Box::new(Leaf { last, watch: self.watches.of(topic) }));
                for node in &path {
                    node.topics.fetch_add(1, Ordering::Relaxed);
                }
            }
        }
        let path = Path(path.into());
        path.note(self, noted, now);
        Some(path)
    }

    /// Whether numbers may be kept of one more topic; then it is counted.
    fn takes_numbers(&self) -> bool {
        let more = |count| (count < NUMBERED).then_some(count + 1);
        self.numbered.fetch_update(Ordering::Relaxed, Ordering::Relaxed, more).is_ok()
    }

    /// What was gathered of a topic since somebody looks at it, after the message of this number; from now on it is.
    /// `None` if as many topics are looked at as may be.
    pub(crate) fn look(&self, topic: &str, after: u64, now: Time) -> Option<Gathered> {
        let (gathered, watch) = self.watches.look(topic, after, now)?;
        if let Some(node) = self.find(topic)
            && let Some(leaf) = &mut *node.leaf.lock()
            && leaf.watch.as_ref().is_none_or(|known| !Arc::ptr_eq(known, &watch))
        {
            leaf.watch = Some(watch);
        }
        Some(gathered)
    }

    fn most(&self) -> usize {
        if cfg!(test) { 1_000 } else { MOST }
    }

    fn find(&self, topic: &str) -> Option<Arc<Node>> {
        let mut node = Arc::clone(&self.root);
        for level in topic.split('/') {
            node = node.child(level)?;
        }
        Some(node)
    }

    /// What is known of one topic or branch.
    pub(crate) fn view(&self, path: &str, now: Time) -> Option<View> {
        let level = path.rsplit('/').next().unwrap_or_default();
        Some(self.find(path)?.view(level, path.to_owned(), now))
    }

    /// The first levels right below `prefix`, or at the top if there is none, and how many there are.
    pub(crate) fn below(&self, prefix: Option<&str>, first: First, most: usize, now: Time) -> (Vec<View>, usize) {
        let node = match prefix {
            None => Some(Arc::clone(&self.root)),
            Some(prefix) => self.find(prefix),
        };
        let mut children = node.map(|node| node.children()).unwrap_or_default();
        let count = children.len();
        // A level may have very many below: only those that are shown are put in order and looked at.
        type Child = (Box<str>, Arc<Node>);
        let by_name = |one: &Child, other: &Child| one.0.cmp(&other.0);
        match first {
            First::ByName => shorten(&mut children, most, by_name),
            First::ByRate => {
                let rate = |child: &Child| rate_at(child.1.rate.load(Ordering::Relaxed), now);
                let mut rated: Vec<(f64, Child)> = children.into_iter().map(|child| (rate(&child), child)).collect();
                shorten(&mut rated, most, |one, other| {
                    other.0.total_cmp(&one.0).then_with(|| by_name(&one.1, &other.1))
                });
                children = rated.into_iter().map(|(_, child)| child).collect();
            }
        }
        let path = |level: &str| prefix.map_or_else(|| level.to_owned(), |prefix| format!("{prefix}/{level}"));
        (children.iter().map(|(level, child)| child.view(level, path(level), now)).collect(), count)
    }

    /// Everything together.
    pub(crate) fn total(&self, now: Time) -> View {
        self.root.view("", String::new(), now)
    }

    /// The whole, to be walked through.
    pub(crate) fn walker(&self) -> Walker {
        Walker(Arc::clone(&self.root))
    }

    /// Calls `found` for each topic.
    pub(crate) fn each(&self, now: Time, mut found: impl FnMut(Glance<'_>)) {
        for (level, child) in self.root.children() {
            child.each(&level, now, &mut found);
        }
    }

    /// The first topics at and below `prefix`, however deep, and how many there are.
    pub(crate) fn whole(&self, prefix: Option<&str>, first: First, most: usize, now: Time) -> (Vec<View>, usize) {
        let below = |path: &str| {
            prefix.is_none_or(|prefix| {
                path.strip_prefix(prefix).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
            })
        };
        let mut found = Vec::new();
        self.each(now, |topic| {
            if below(topic.path) {
                found.push((topic.rate, topic.path.to_owned()));
            }
        });
        let count = found.len();
        shorten(&mut found, most, |one, other| match first {
            First::ByName => one.1.cmp(&other.1),
            First::ByRate => other.0.total_cmp(&one.0).then_with(|| one.1.cmp(&other.1)),
        });
        (found.iter().filter_map(|(_, path)| self.view(path, now)).collect(), count)
    }

    /// Topics of the last day, and who published there last.
    pub(crate) fn publishers(&self, now: Time) -> Vec<(String, Arc<str>)> {
        let since = Time::from_micros(seconds(now).saturating_sub(USED) * 1_000_000);
        let mut used = Vec::new();
        self.each(now, |topic| {
            if topic.last >= since {
                used.push((topic.path.to_owned(), topic.publisher));
            }
        });
        used
    }

    /// Removes topics that nobody has published to for long.
    pub(crate) fn forget(&self, now: Time) {
        let _alone = self.shape.write();
        if self.root.forget(seconds(now).saturating_sub(FORGOTTEN_AFTER), &self.numbered) > 0 {
            self.nodes.store(self.root.size() - 1, Ordering::Relaxed);
        }
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may panic")]

    use super::*;

    const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage/level";

    fn at(seconds: u64) -> Time {
        Time::from_micros(seconds * 1_000_000)
    }

    fn weir() -> Arc<str> {
        "kettle-weir".into()
    }

    fn message(topic: &str, payload: &str) -> Arc<Message> {
        let (topic, payload) = (topic.parse().unwrap(), payload.to_owned().into());
        let properties = moorfall_wire::PublishProperties::default();
        let qos = moorfall_wire::QoS::AtLeastOnce;
        Arc::new(Message::new(topic, payload, qos, false, properties, moorfall_core::SessionKey(1), Time::default()))
    }

    /// Notes so many messages of a topic.
    fn note(topics: &Topics, topic: &str, count: usize, bytes: u64, publisher: &Arc<str>, now: Time) -> Option<Path> {
        let messages = vec![message(topic, "1.83"); count];
        topics.note(topic, Noted { messages: &messages, bytes, publisher }, now)
    }

    /// Notes so many by the way to a topic.
    fn note_by(topics: &Topics, path: &Path, count: usize, bytes: u64, publisher: &Arc<str>, now: Time) -> bool {
        let messages = vec![message(LEVEL, "1.85"); count];
        path.note(topics, Noted { messages: &messages, bytes, publisher }, now)
    }

    #[test]
    fn branches_know_the_sums_of_what_is_below() {
        let topics = Topics::default();
        let weir = weir();
        let path = note(&topics, LEVEL, 3, 30, &weir, at(100)).unwrap();
        assert!(note_by(&topics, &path, 2, 20, &weir, at(100)));
        note(&topics, "harrowmere/gorge", 1, 5, &weir, at(100)).unwrap();
        note(&topics, "harrowmere/tidal/ferry-stage/status", 1, 6, &"ferry-stage".into(), at(101)).unwrap();
        let gorge = topics.view("harrowmere/gorge", at(101)).unwrap();
        assert_eq!((gorge.topics, gorge.messages, gorge.bytes, gorge.is_topic), (2, 6, 55, true));
        let total = topics.total(at(101));
        assert_eq!((total.topics, total.messages, total.is_topic), (3, 7, false));
        let mut below: Vec<_> =
            topics.below(Some("harrowmere"), First::ByName, 9, at(101)).0.into_iter().map(|view| view.level).collect();
        below.sort();
        assert_eq!(below, ["gorge", "tidal"]);
        let leaf = topics.view(LEVEL, at(101)).unwrap();
        assert_eq!((leaf.publisher().map(|one| &**one), leaf.has_children), (Some("kettle-weir"), false));
        assert!(topics.view("harrowmere/meadows", at(101)).is_none());
        let mut all = Vec::new();
        topics.each(at(101), |topic| all.push(topic.path.to_owned()));
        all.sort();
        assert_eq!(all, ["harrowmere/gorge", LEVEL, "harrowmere/tidal/ferry-stage/status"]);
    }

    #[test]
    fn deep_topics_take_no_more_than_there_is_room_for() {
        let topics = Topics::default();
        let deep = |number: usize| format!("{number}{}", "/x".repeat(99));
        for number in 0..20 {
            assert_eq!(note(&topics, &deep(number), 1, 1, &weir(), at(100)).is_some(), number < 10, "{number}");
        }
        assert_eq!((topics.total(at(100)).topics, topics.unfollowed.load(Ordering::Relaxed)), (10, 10));
        assert!(note(&topics, &deep(3), 1, 1, &weir(), at(100)).is_some(), "what is known is followed on");
        topics.forget(at(100 + FORGOTTEN_AFTER + 1));
        assert_eq!(topics.total(at(100)).topics, 0);
        assert!(note(&topics, &deep(15), 1, 1, &weir(), at(100)).is_some(), "the room is given back");
    }

    #[test]
    fn a_rate_follows_what_comes_and_fades_when_nothing_does() {
        let topics = Topics::default();
        for second in 0..100 {
            note(&topics, LEVEL, 5, 50, &weir(), at(1_000 + second)).unwrap();
        }
        let rate = |now| topics.view(LEVEL, at(now)).unwrap().rate;
        assert!((4.5..5.5).contains(&rate(1_099)), "{}", rate(1_099));
        assert!(rate(1_119) < 1.0 && rate(1_119) > 0.1, "{}", rate(1_119));
        assert!(rate(1_299) < 0.001);
    }

    #[test]
    fn what_nobody_publishes_to_is_forgotten_and_may_come_back() {
        let topics = Topics::default();
        let weir = weir();
        let path = note(&topics, LEVEL, 1, 1, &weir, at(1_000)).unwrap();
        let late = 1_000 + FORGOTTEN_AFTER + 1;
        note(&topics, "harrowmere/gorge/kettle-weir/status", 1, 1, &weir, at(late)).unwrap();
        assert_eq!(
            topics.publishers(at(late)),
            [("harrowmere/gorge/kettle-weir/status".to_owned(), Arc::clone(&weir))]
        );
        topics.forget(at(late));
        assert_eq!(topics.total(at(late)).topics, 1);
        assert!(topics.view(LEVEL, at(late)).is_none());
        // Whoever kept the way there is told to look for it anew.
        assert!(!note_by(&topics, &path, 1, 1, &weir, at(late)));
        note(&topics, LEVEL, 1, 1, &weir, at(late)).unwrap();
        assert_eq!((topics.total(at(late)).topics, topics.view(LEVEL, at(late)).unwrap().messages), (2, 1));
    }
}
