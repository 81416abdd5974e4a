//! The live topic hierarchy: what was published where, how often and when, as a tree whose branches know their sums.

use std::sync::{
    Arc,
    atomic::{AtomicU64, AtomicUsize, Ordering},
};

use moorfall_core::{Passing, Time};
use tracing_mutex::parkinglot::{Mutex, RwLock};

use crate::{
    busiest::Busiest,
    topics::{
        gathered::{Gathered, Watches},
        last_value::LastValue,
        node::{Glance, LEVEL, Leaf, Node, View, Walker, rate_at, seconds},
    },
};

/// What a topic takes beside its levels, bytes. The tree is bounded by bytes, since whoever may publish chooses how deep a
/// topic is and how long its levels are; a topic that would need more is only counted.
const TOPIC: usize = 400;

/// Levels that are looked at while no way can be made.
const SLICE: usize = 256;

/// Topics of which numbers are kept.
const NUMBERED: usize = 100_000;

/// How long an unused topic stays in the tree, seconds.
pub const FORGOTTEN_AFTER: u64 = 7 * 24 * 3_600;

/// Topics that were published to since this many seconds count as used.
const USED: u64 = 24 * 3_600;

/// Messages of one topic that follow each other.
#[derive(Clone, Copy, Debug)]
pub struct Noted<'a> {
    /// At least one.
    pub messages: Passing<'a>,
    /// Bytes of payload, topic and properties of all.
    pub bytes: u64,
    /// Whose they are.
    pub publisher: &'a Arc<str>,
}

/// Which levels come first.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum First {
    /// In the order of their texts.
    ByName,
    /// The busiest.
    ByRate,
}

/// Leaves the first of them, in order.
fn shorten<T>(all: &mut Vec<T>, most: usize, order: impl Fn(&T, &T) -> std::cmp::Ordering) {
    if all.len() > most && most > 0 {
        all.select_nth_unstable_by(most - 1, &order);
    }
    all.truncate(most);
    all.sort_unstable_by(order);
}

/// The way to one topic.
#[derive(Clone, Debug)]
pub struct Path {
    topic: Arc<str>,
    nodes: Arc<[Arc<Node>]>,
}

impl Path {
    /// Notes messages of one topic; gives whether the topic is in the hierarchy still. If not, the way is to be looked
    /// up again.
    pub fn note(&self, topics: &Topics, noted: Noted<'_>, now: Time) -> bool {
        let (Some(topic), Some(last)) = (self.nodes.last(), noted.messages.last()) else { return false };
        let messages = noted.messages.len() as u64;
        let is_first = {
            let mut leaf = topic.leaf.lock();
            let Some(leaf) = &mut *leaf else { return false };
            leaf.last.set(last, noted.publisher, now, || topics.takes_numbers());
            if let Some(watch) = leaf.watch.take_if(|watch| !watch.is_left(now)) {
                watch.take(noted.messages, noted.publisher, now);
                leaf.watch = Some(watch);
            }
            let is_first = leaf.unsummed == (0, 0);
            leaf.unsummed = (leaf.unsummed.0 + messages, leaf.unsummed.1 + noted.bytes);
            is_first
        };
        // Only what is the topic's own is written to: all publishers would meet at the root.
        topic.note(messages, noted.bytes, now);
        if is_first {
            topics.unsummed.lock().push(self.clone());
        }
        true
    }

    /// Tells the branches above what came to the topic.
    fn sum_up(&self, busiest: &Busiest, now: Time) {
        let Some((topic, above)) = self.nodes.split_last() else { return };
        let unsummed = topic.leaf.lock().as_mut().map(|leaf| std::mem::take(&mut leaf.unsummed));
        if let Some((messages, bytes)) = unsummed {
            above.iter().for_each(|node| node.note(messages, bytes, now));
            busiest.add_topic(&self.topic, (messages, bytes), now);
        }
    }
}

/// The live topic hierarchy.
#[derive(Debug)]
pub struct Topics {
    root: Arc<Node>,
    /// Bytes that it takes, about.
    bytes: AtomicUsize,
    /// How many it may take.
    most: usize,
    /// Topics of which the branches above do not know all yet.
    unsummed: Mutex<Vec<Path>>,
    /// Held for reading while a way is made, for writing while what is not used is removed: a way that is half made must
    /// not be taken away.
    shape: RwLock<()>,
    /// Messages on topics beyond what is followed.
    pub unfollowed: AtomicU64,
    /// Topics of which numbers are kept.
    numbered: AtomicUsize,
    watches: Watches,
    busiest: Arc<Busiest>,
}

impl Topics {
    /// Nothing yet, and never more than so many bytes.
    pub fn new(most: usize, busiest: Arc<Busiest>) -> Self {
        Self {
            busiest,
            root: Arc::default(),
            bytes: AtomicUsize::new(0),
            most,
            unsummed: Mutex::default(),
            shape: RwLock::default(),
            unfollowed: AtomicU64::new(0),
            numbered: AtomicUsize::new(0),
            watches: Watches::default(),
        }
    }

    /// Bytes that it takes, about, and how many it may.
    pub fn size(&self) -> (usize, usize) {
        (self.bytes.load(Ordering::Relaxed), self.most)
    }

    /// Brings the sums of the branches up to date: once a second, and before they are looked at.
    pub fn sum_up(&self, now: Time) {
        let unsummed = std::mem::take(&mut *self.unsummed.lock());
        unsummed.iter().for_each(|path| path.sum_up(&self.busiest, now));
    }

    /// Notes messages of a topic and gives the way to it, which makes it quicker the next time; `None` when as many
    /// topics are followed as may be.
    pub fn note(&self, topic: &str, noted: Noted<'_>, now: Time) -> Option<Path> {
        let _as_it_is = self.shape.read();
        let wanted = TOPIC + topic.split('/').map(|level| LEVEL + level.len()).sum::<usize>();
        if self.bytes.load(Ordering::Relaxed) + wanted > self.most && self.find(topic).is_none() {
            let messages = noted.messages.len() as u64;
            self.unfollowed.fetch_add(messages, Ordering::Relaxed);
            self.busiest.add_topic(&topic.into(), (messages, noted.bytes), now);
            return None;
        }
        let mut path = vec![Arc::clone(&self.root)];
        for level in topic.split('/') {
            let child = path[path.len() - 1].grow(level, &self.bytes);
            path.push(child);
        }
        {
            let mut leaf = path[path.len() - 1].leaf.lock();
            if leaf.is_none() {
                let last = LastValue::new(noted.publisher, now);
                *leaf = Some(Box::new(Leaf { last, unsummed: (0, 0), watch: self.watches.of(topic) }));
                self.bytes.fetch_add(TOPIC, Ordering::Relaxed);
                for node in &path {
                    node.topics.fetch_add(1, Ordering::Relaxed);
                }
            }
        }
        let path = Path { topic: topic.into(), nodes: path.into() };
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
    pub fn look(&self, topic: &str, after: u64, now: Time) -> Option<Gathered> {
        let (gathered, watch) = self.watches.look(topic, after, now)?;
        if let Some(node) = self.find(topic)
            && let Some(leaf) = &mut *node.leaf.lock()
            && leaf.watch.as_ref().is_none_or(|known| !Arc::ptr_eq(known, &watch))
        {
            leaf.watch = Some(watch);
        }
        Some(gathered)
    }

    fn find(&self, topic: &str) -> Option<Arc<Node>> {
        let mut node = Arc::clone(&self.root);
        for level in topic.split('/') {
            node = node.child(level)?;
        }
        Some(node)
    }

    /// What is known of one topic or branch.
    pub fn view(&self, path: &str, now: Time) -> Option<View> {
        self.sum_up(now);
        let level = path.rsplit('/').next().unwrap_or_default();
        Some(self.find(path)?.view(level, path.to_owned(), now))
    }

    /// The first levels right below `prefix`, or at the top if there is none, and how many there are.
    pub fn below(&self, prefix: Option<&str>, first: First, most: usize, now: Time) -> (Vec<View>, usize) {
        self.sum_up(now);
        let node = match prefix {
            None => Some(Arc::clone(&self.root)),
            Some(prefix) => self.find(prefix),
        };
        let count = node.as_ref().map_or(0, |node| node.child_count());
        // A level may have very many below: only those that are shown are looked at, or put in order.
        type Child = (Box<str>, Arc<Node>);
        let by_name = |one: &Child, other: &Child| one.0.cmp(&other.0);
        let mut children = match (&node, first) {
            (None, _) => Vec::new(),
            (Some(node), First::ByName) => node.children_after(None, most),
            (Some(node), First::ByRate) => node.children(),
        };
        match first {
            First::ByName => {}
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
    pub fn total(&self, now: Time) -> View {
        self.sum_up(now);
        self.root.view("", String::new(), now)
    }

    /// The whole, to be walked through.
    pub fn walker(&self) -> Walker {
        Walker(Arc::clone(&self.root))
    }

    /// Calls `found` for each topic.
    pub fn each(&self, now: Time, mut found: impl FnMut(Glance<'_>)) {
        for (level, child) in self.root.children() {
            child.each(&level, now, &mut found);
        }
    }

    /// The first topics at and below `prefix`, however deep, and how many there are.
    pub fn whole(&self, prefix: Option<&str>, first: First, most: usize, now: Time) -> (Vec<View>, usize) {
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
    pub fn publishers(&self, now: Time) -> Vec<(String, Arc<str>)> {
        let since = Time::from_micros(seconds(now).saturating_sub(USED) * 1_000_000);
        let mut used = Vec::new();
        self.each(now, |topic| {
            if topic.last >= since {
                used.push((topic.path.to_owned(), topic.publisher));
            }
        });
        used
    }

    /// Removes topics that nobody has published to for long, a few levels at a time: what is published meanwhile does not
    /// wait for all of them.
    pub fn forget(&self, now: Time) {
        let mut sweep = Sweep {
            way: vec![Step { node: Arc::clone(&self.root), level: "".into(), after: None }],
            before: seconds(now).saturating_sub(FORGOTTEN_AFTER),
        };
        while !sweep.way.is_empty() {
            let _alone = self.shape.write();
            sweep.go_on(self, SLICE);
        }
    }
}

/// A walk through all levels, from below upwards, that can be left and gone on with.
struct Sweep {
    /// The levels that it is in, from the root on.
    way: Vec<Step>,
    /// Topics that were published to since, in seconds, stay.
    before: u64,
}

struct Step {
    node: Arc<Node>,
    level: Box<str>,
    /// The child that was looked at last.
    after: Option<Box<str>>,
}

impl Sweep {
    /// Looks at so many levels.
    fn go_on(&mut self, topics: &Topics, count: usize) {
        for _ in 0..count {
            let Some(step) = self.way.last_mut() else { return };
            match step.node.children_after(step.after.as_deref(), 1).pop() {
                Some((level, node)) => {
                    step.after = Some(level.clone());
                    self.way.push(Step { node, level, after: None });
                }
                None => self.leave(topics),
            }
        }
    }

    /// All below is looked at: the level itself is, and removed if nothing is left of it.
    fn leave(&mut self, topics: &Topics) {
        let Some(Step { node, level, .. }) = self.way.pop() else { return };
        let gone = node.leaf.lock().take_if(|_| node.last() < self.before);
        if let Some(gone) = gone {
            topics.numbered.fetch_sub(usize::from(gone.last.has_numbers()), Ordering::Relaxed);
            topics.bytes.fetch_sub(TOPIC, Ordering::Relaxed);
            for node in self.way.iter().map(|step| &step.node).chain([&node]) {
                node.topics.fetch_sub(1, Ordering::Relaxed);
            }
        }
        let Some(parent) = self.way.last() else { return };
        if node.topics.load(Ordering::Relaxed) == 0 {
            let mut children = parent.node.children.write();
            if let Some(all) = children.as_mut() {
                if all.remove(&level).is_some() {
                    topics.bytes.fetch_sub(LEVEL + level.len(), Ordering::Relaxed);
                }
                if all.is_empty() {
                    *children = None;
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may panic")]

    use super::*;

    /// Ten deep topics, or many usual ones.
    const SIZE: usize = 10 * (TOPIC + 100 * (crate::topics::node::LEVEL + 1)) + 500;

    const LEVEL: &str = "harrowmere/gorge/kettle-weir/stage/level";

    fn at(seconds: u64) -> Time {
        Time::from_micros(seconds * 1_000_000)
    }

    fn weir() -> Arc<str> {
        "kettle-weir".into()
    }

    fn message(topic: &str, payload: &str) -> Arc<moorfall_core::Message> {
        let (topic, payload) = (topic.parse().unwrap(), payload.to_owned().into());
        let properties = moorfall_wire::PublishProperties::default();
        let qos = moorfall_wire::QoS::AtLeastOnce;
        let publisher = moorfall_core::SessionKey(1);
        Arc::new(moorfall_core::Message::new(topic, payload, qos, false, properties, publisher, Time::default()))
    }

    /// Notes so many messages of a topic.
    fn note(topics: &Topics, topic: &str, count: usize, bytes: u64, publisher: &Arc<str>, now: Time) -> Option<Path> {
        let messages = vec![message(topic, "1.83"); count];
        topics.note(topic, Noted { messages: Passing::Messages(&messages), bytes, publisher }, now)
    }

    /// Notes so many by the way to a topic.
    fn note_by(topics: &Topics, path: &Path, count: usize, bytes: u64, publisher: &Arc<str>, now: Time) -> bool {
        let messages = vec![message(LEVEL, "1.85"); count];
        path.note(topics, Noted { messages: Passing::Messages(&messages), bytes, publisher }, now)
    }

    #[test]
    fn branches_know_the_sums_of_what_is_below() {
        let topics = Topics::new(SIZE, Arc::default());
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
        let topics = Topics::new(SIZE, Arc::default());
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
        let topics = Topics::new(SIZE, Arc::default());
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
        let topics = Topics::new(SIZE, Arc::default());
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

    #[test]
    fn long_levels_take_room_as_long_as_they_are() {
        let topics = Topics::new(1_000_000, Arc::default());
        let weir = weir();
        for number in 0..1_000 {
            note(&topics, &format!("{number}/{}", "x".repeat(4_000)), 1, 1, &weir, at(100));
        }
        let (bytes, most) = topics.size();
        assert!(bytes <= most && bytes > most - 10_000, "{bytes} of {most}");
        let followed = u64::from(topics.total(at(100)).topics);
        assert!(followed < 250 && followed + topics.unfollowed.load(Ordering::Relaxed) == 1_000, "{followed}");
        topics.forget(at(100 + FORGOTTEN_AFTER + 1));
        assert_eq!(topics.size().0, 0);
    }

    #[test]
    fn a_sweep_goes_on_where_it_was_and_others_come_between() {
        let topics = Topics::new(usize::MAX, Arc::default());
        let weir = weir();
        for number in 0..500 {
            note(&topics, &format!("old/{number}/level"), 1, 1, &weir, at(100));
        }
        let late = at(100 + FORGOTTEN_AFTER + 1);
        let way = vec![Step { node: Arc::clone(&topics.root), level: "".into(), after: None }];
        let mut sweep = Sweep { way, before: seconds(late).saturating_sub(FORGOTTEN_AFTER) };
        let mut slices = 0;
        while !sweep.way.is_empty() {
            sweep.go_on(&topics, 16);
            slices += 1;
            note(&topics, &format!("new/{slices}"), 1, 1, &weir, late);
        }
        assert!(slices > 20, "{slices}");
        assert_eq!((topics.total(late).topics, topics.view("old", late).is_none()), (slices, true));
    }
}
