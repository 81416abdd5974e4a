//! Retained messages (§3.3.1.3): at most one for each topic, found by filter.

use std::{ops::Bound, sync::Arc};

use imbl::OrdMap;
use moorfall_wire::{TopicFilter, TopicName};

use crate::{Holding, Limits, Message, Time};

/// A bound on retained messages is reached; nothing was changed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum RetainedFull {
    /// Of all together.
    #[error(
        "the limit of retained messages is reached. Clear old ones with `moorfall retained clear`, or raise \
         `retained-messages` or `retained-bytes` in `[limits]`."
    )]
    Broker,
    /// Of those that the publisher's identity has published.
    #[error(
        "the limit of retained messages of this identity is reached. Clear old ones with `moorfall retained clear`, or \
         raise `retained-bytes-per-identity`."
    )]
    Identity,
}

/// All retained messages, as a trie over topic levels. A clone takes constant time and shares the structure, so a
/// long walk needs no lock.
#[derive(Clone, Debug, Default)]
pub struct Retained {
    root: Node,
    count: usize,
    bytes: usize,
}

/// A message, and in whose share it counts; the service's own are in nobody's, and bounded by their topics.
#[derive(Clone, Debug)]
struct Kept {
    message: Arc<Message>,
    owner: Option<Arc<Holding>>,
}

#[derive(Clone, Debug, Default)]
struct Node {
    kept: Option<Kept>,
    /// In order, so that a subscriber gets retained messages sorted by topic.
    children: OrdMap<Arc<str>, Arc<Node>>,
}

impl Retained {
    pub(crate) fn count(&self) -> usize {
        self.count
    }

    pub(crate) fn bytes(&self) -> usize {
        self.bytes
    }

    /// Keeps `message` for its topic in place of an earlier one, which is given back. An empty payload clears the
    /// topic ([MQTT-3.3.1-6]).
    pub(crate) fn set(
        &mut self,
        message: &Arc<Message>,
        owner: &Arc<Holding>,
        limits: &Limits,
    ) -> Result<Option<Arc<Message>>, RetainedFull> {
        if message.payload.is_empty() {
            return Ok(self.clear(&message.topic));
        }
        let old = self.get(&message.topic).filter(|old| old.owner.is_some());
        let count = self.count + usize::from(old.is_none());
        let bytes = self.bytes - old.map_or(0, |old| old.message.weight()) + message.weight();
        let grows = count > self.count || bytes > self.bytes;
        if grows && (count > limits.retained_messages || bytes > limits.retained_bytes) {
            return Err(RetainedFull::Broker);
        }
        let own = old
            .filter(|old| old.owner.as_ref().is_some_and(|of| Arc::ptr_eq(of, owner)))
            .map_or(0, |old| old.message.weight());
        if message.weight() > own && owner.retained.room(own) < message.weight() {
            owner.retained.note_refused();
            return Err(RetainedFull::Identity);
        }
        Ok(self.put(message, owner))
    }

    /// Puts back what was kept before, whatever the bounds.
    pub(crate) fn put(&mut self, message: &Arc<Message>, owner: &Arc<Holding>) -> Option<Arc<Message>> {
        self.count += 1;
        self.bytes += message.weight();
        owner.retained.force(message.weight());
        self.replace(message, Some(Arc::clone(owner)))
    }

    /// Keeps a message of the service itself, which counts nowhere.
    pub(crate) fn put_own(&mut self, message: &Arc<Message>) {
        self.replace(message, None);
    }

    fn replace(&mut self, message: &Arc<Message>, owner: Option<Arc<Holding>>) -> Option<Arc<Message>> {
        let levels: Vec<&str> = message.topic.levels().collect();
        let old = self.root.set(&levels, Kept { message: Arc::clone(message), owner });
        old.map(|old| self.let_go(old))
    }

    /// Takes the message of a topic away.
    fn clear(&mut self, topic: &TopicName) -> Option<Arc<Message>> {
        let levels: Vec<&str> = topic.levels().collect();
        let old = self.root.clear(&levels)?;
        Some(self.let_go(old))
    }

    fn let_go(&mut self, Kept { message, owner }: Kept) -> Arc<Message> {
        if let Some(owner) = owner {
            self.count -= 1;
            self.bytes -= message.weight();
            owner.retained.give(message.weight());
        }
        message
    }

    /// All retained messages, in no order.
    pub(crate) fn all(&self) -> Vec<Arc<Message>> {
        let mut found = Vec::with_capacity(self.count);
        self.root.visit_all(&mut |message| found.push(Arc::clone(message)));
        found
    }

    /// The retained message of a topic.
    pub(crate) fn of(&self, topic: &TopicName) -> Option<&Arc<Message>> {
        self.get(topic).map(|kept| &kept.message)
    }

    /// All retained messages whose life is over at `now`.
    pub(crate) fn expired(&self, now: Time) -> Vec<Arc<Message>> {
        let mut found = Vec::new();
        self.root.visit_all(&mut |message| {
            if message.expiry_left(now) == Some(0) {
                found.push(Arc::clone(message));
            }
        });
        found
    }

    /// Forgets a message, unless another has taken its place.
    pub(crate) fn forget(&mut self, message: &Arc<Message>) -> bool {
        let current = self.of(&message.topic).is_some_and(|known| Arc::ptr_eq(known, message));
        current && self.clear(&message.topic).is_some()
    }

    fn get(&self, topic: &TopicName) -> Option<&Kept> {
        let mut node = &self.root;
        for level in topic.levels() {
            node = node.children.get(level)?;
        }
        node.kept.as_ref()
    }

    /// The retained messages that `filter` matches and that have not expired at `now`, by topic.
    pub(crate) fn matching(&self, filter: &TopicFilter, now: Time) -> Vec<Arc<Message>> {
        RetainedWalk::new(filter).next(self, usize::MAX, now)
    }
}

/// A walk through the retained messages of a filter, in the order of their topics. It holds none of them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RetainedWalk {
    filter: TopicFilter,
    /// The topic that it has come to.
    after: Option<TopicName>,
    is_over: bool,
}

impl RetainedWalk {
    /// Nothing was found yet.
    pub fn new(filter: &TopicFilter) -> Self {
        Self { filter: filter.clone(), after: None, is_over: false }
    }

    /// The next messages, so many at most, whose lives are not over at `now`; none at the end.
    pub fn next(&mut self, retained: &Retained, most: usize, now: Time) -> Vec<Arc<Message>> {
        let mut page = Page { found: Vec::new(), most, now };
        if !self.is_over {
            let levels: Vec<&str> = self.filter.levels().collect();
            let after: Option<Vec<&str>> = self.after.as_ref().map(|topic| topic.levels().collect());
            retained.root.walk(&levels, true, after.as_deref(), &mut page);
            self.is_over = page.found.len() < most;
            if let Some(last) = page.found.last() {
                self.after = Some(last.topic.clone());
            }
        }
        page.found
    }
}

/// What one step of a walk finds.
struct Page {
    found: Vec<Arc<Message>>,
    most: usize,
    now: Time,
}

impl Page {
    fn is_full(&self) -> bool {
        self.found.len() >= self.most
    }

    fn add(&mut self, message: Option<&Arc<Message>>) {
        self.found.extend(message.filter(|message| message.expiry_left(self.now) != Some(0)).cloned());
    }
}

impl Node {
    fn set(&mut self, levels: &[&str], kept: Kept) -> Option<Kept> {
        let Some((level, rest)) = levels.split_first() else { return self.kept.replace(kept) };
        if !self.children.contains_key(*level) {
            self.children.insert((*level).into(), Arc::default());
        }
        let child = self.children.get_mut(*level).expect("inserted above if it was missing");
        Arc::make_mut(child).set(rest, kept)
    }

    fn clear(&mut self, levels: &[&str]) -> Option<Kept> {
        let Some((level, rest)) = levels.split_first() else { return self.kept.take() };
        let child = Arc::make_mut(self.children.get_mut(*level)?);
        let cleared = child.clear(rest);
        if child.kept.is_none() && child.children.is_empty() {
            self.children.remove(*level);
        }
        cleared
    }

    fn message(&self) -> Option<&Arc<Message>> {
        self.kept.as_ref().map(|kept| &kept.message)
    }

    /// Adds what the filter's `levels` match here and below, behind the topic whose levels `after` are.
    fn walk(&self, levels: &[&str], first: bool, after: Option<&[&str]>, page: &mut Page) {
        match levels {
            [] if after.is_none() => page.add(self.message()),
            [] => {}
            ["#"] => {
                if after.is_none() {
                    page.add(self.message());
                }
                self.walk_children(levels, first, after, page);
            }
            ["+", rest @ ..] => self.walk_children(rest, first, after, page),
            [level, rest @ ..] => {
                let after = match after.and_then(|after| after.split_first()) {
                    Some((before, _)) if *level < *before => return,
                    Some((before, below)) if level == before => Some(below),
                    _ => None,
                };
                if let Some(child) = self.children.get(*level) {
                    child.walk(rest, false, after, page);
                }
            }
        }
    }

    fn walk_children(&self, levels: &[&str], first: bool, after: Option<&[&str]>, page: &mut Page) {
        let after = after.and_then(|after| after.split_first());
        let from = after.map_or(Bound::Unbounded, |(before, _)| Bound::Included(*before));
        for (level, child) in self.children.range::<_, str>((from, Bound::Unbounded)) {
            if page.is_full() {
                return;
            }
            // [MQTT-4.7.2-1]: wildcards at the first level leave out topics that begin with `$`.
            if !(first && level.starts_with('$')) {
                let below = after.filter(|(before, _)| **before == &**level).map(|(_, below)| below);
                child.walk(levels, false, below, page);
            }
        }
    }
}

impl Node {
    fn visit_all(&self, found: &mut impl FnMut(&Arc<Message>)) {
        self.message().into_iter().for_each(&mut *found);
        for child in self.children.values() {
            child.visit_all(found);
        }
    }
}

#[cfg(test)]
mod tests {
    use std::{collections::BTreeSet, time::Duration};

    use moorfall_wire::{PublishProperties, QoS};
    use proptest::prelude::*;

    use super::*;
    use crate::SessionKey;

    fn message(topic: &str, payload: &'static str, life: Option<u32>) -> Arc<Message> {
        let properties = PublishProperties { message_expiry_interval: life, ..PublishProperties::default() };
        let topic = topic.parse().unwrap();
        let message =
            Message::new(topic, payload.into(), QoS::AtMostOnce, true, properties, SessionKey(1), Time::default());
        Arc::new(message)
    }

    fn topics(retained: &Retained, filter: &str, now: Time) -> Vec<String> {
        let found = retained.matching(&filter.parse().unwrap(), now);
        let mut topics: Vec<String> = found.iter().map(|message| message.topic.to_string()).collect();
        topics.sort();
        topics
    }

    #[test]
    fn messages_of_the_service_itself_count_nowhere() {
        let limits = Limits { retained_messages: 1, ..Limits::default() };
        let mut retained = Retained::default();
        retained.put_own(&message("$SYS/moorfall/queued", "0", None));
        retained.put_own(&message("$SYS/moorfall/queued", "1", None));
        assert_eq!((retained.count(), retained.bytes()), (0, 0));
        let owner = Arc::default();
        let status = message("harrowmere/gorge/kettle-weir/status", "online", None);
        retained.set(&status, &owner, &limits).unwrap();
        assert!(retained.set(&message("other", "online", None), &owner, &limits).is_err());
        assert_eq!(topics(&retained, "$SYS/#", Time::default()), ["$SYS/moorfall/queued"]);
        // Whoever may publish there takes the place, and then it counts.
        let limits = Limits::default();
        retained.set(&message("$SYS/moorfall/queued", "9", None), &owner, &limits).unwrap();
        assert_eq!(retained.count(), 2);
        retained.put_own(&message("$SYS/moorfall/queued", "2", None));
        assert_eq!((retained.count(), owner.retained.held()), (1, status.weight()));
    }

    #[test]
    fn one_message_a_topic_found_by_filter_and_cleared_by_an_empty_payload() {
        let limits = Limits::default();
        let mut retained = Retained::default();
        for topic in
            ["harrowmere/gorge", "harrowmere/gorge/kettle-weir/status", "harrowmere/tidal/barrier/status", "$weir"]
        {
            retained.set(&message(topic, "online", None), &Arc::default(), &limits).unwrap();
            retained.set(&message(topic, "offline", None), &Arc::default(), &limits).unwrap();
        }
        let now = Time::default();
        assert_eq!(retained.count(), 4);
        assert_eq!(topics(&retained, "harrowmere/+/+/status", now).len(), 2);
        assert_eq!(
            topics(&retained, "harrowmere/gorge/#", now),
            ["harrowmere/gorge", "harrowmere/gorge/kettle-weir/status"]
        );
        assert_eq!(topics(&retained, "#", now).len(), 3, "not $weir");
        assert_eq!(topics(&retained, "+", now), Vec::<String>::new());
        assert_eq!(topics(&retained, "$weir", now), ["$weir"]);
        assert_eq!(&retained.matching(&"$weir".parse().unwrap(), now)[0].payload[..], b"offline");
        for topic in [
            "harrowmere/gorge",
            "harrowmere/gorge/kettle-weir/status",
            "harrowmere/tidal/barrier/status",
            "$weir",
            "never",
        ] {
            retained.set(&message(topic, "", None), &Arc::default(), &limits).unwrap();
        }
        assert_eq!((retained.count(), retained.bytes(), retained.root.children.len()), (0, 0, 0));
    }

    proptest! {
        /// In steps or at once, whatever is cleared or added meanwhile elsewhere: all that stays is found once, in order.
        #[test]
        fn a_walk_in_steps_finds_what_one_at_once_does(
            topics in prop::collection::btree_set(topic(), 1..40),
            filter in filter(),
            most in 1_usize..6,
            spare in topic(),
        ) {
            let mut retained = Retained::default();
            let keep = |retained: &mut Retained, topic: &str, payload: &'static str| {
                retained.set(&message(topic, payload, None), &Arc::default(), &Limits::default()).unwrap();
            };
            topics.iter().for_each(|topic| keep(&mut retained, topic, "1"));
            let filter: TopicFilter = filter.parse().unwrap();
            let names = |found: Vec<Arc<Message>>| found.into_iter().map(|one| one.topic.to_string()).collect::<Vec<_>>();
            let mut expected = names(retained.matching(&filter, Time::default()));
            let matches: BTreeSet<&str> =
                topics.iter().map(|topic| &**topic).filter(|topic| filter.matches(&topic.parse().unwrap())).collect();
            prop_assert_eq!(expected.iter().map(|topic| &**topic).collect::<BTreeSet<_>>(), matches);
            let (mut walk, mut found) = (RetainedWalk::new(&filter), Vec::new());
            loop {
                let step = names(walk.next(&retained, most, Time::default()));
                prop_assert!(step.len() <= most);
                if step.is_empty() {
                    break;
                }
                found.extend(step);
                // Where it stands is no place that has to stay.
                keep(&mut retained, found.last().unwrap(), "");
                keep(&mut retained, &spare, "2");
            }
            expected.retain(|topic| *topic != spare);
            found.retain(|topic| *topic != spare);
            prop_assert_eq!(found, expected);
        }
    }

    fn level() -> impl Strategy<Value = &'static str> {
        prop::sample::select(vec!["a", "b", "ba", "c", "", "$x"])
    }

    fn topic() -> impl Strategy<Value = String> {
        prop::collection::vec(level(), 1..5)
            .prop_map(|levels| levels.join("/"))
            .prop_filter("some text", |topic| !topic.is_empty())
    }

    fn filter() -> impl Strategy<Value = String> {
        let wild = prop_oneof![2 => level(), 2 => Just("+")];
        (prop::collection::vec(wild, 1..4), any::<bool>()).prop_map(|(mut levels, hash)| {
            if hash {
                levels.push("#");
            }
            let text = levels.join("/");
            if text.is_empty() { "#".to_owned() } else { text }
        })
    }

    #[test]
    fn an_expired_message_is_not_found() {
        let mut retained = Retained::default();
        retained.set(&message("gate", "open", Some(10)), &Arc::default(), &Limits::default()).unwrap();
        let after = |seconds| Time::default() + Duration::from_secs(seconds);
        assert_eq!(topics(&retained, "gate", after(9)).len(), 1);
        assert_eq!(topics(&retained, "gate", after(10)).len(), 0);
        assert_eq!(retained.expired(after(9)).len(), 0);
        let expired = retained.expired(after(10)).remove(0);
        retained.set(&message("gate", "shut", None), &Arc::default(), &Limits::default()).unwrap();
        assert!(!retained.forget(&expired), "another has taken its place");
        let current = retained.matching(&"gate".parse().unwrap(), after(10)).remove(0);
        assert!(retained.forget(&current));
        assert_eq!((retained.count(), retained.bytes()), (0, 0));
    }

    #[test]
    fn the_bound_refuses_what_grows_and_lets_the_rest_through() {
        let limits = Limits { retained_messages: 2, retained_bytes: 22, ..Limits::default() };
        let mut retained = Retained::default();
        retained.set(&message("a", "12345", None), &Arc::default(), &limits).unwrap();
        retained.set(&message("b", "12345", None), &Arc::default(), &limits).unwrap();
        assert!(retained.set(&message("c", "1", None), &Arc::default(), &limits).is_err());
        assert!(retained.set(&message("b", "12345678901234567890", None), &Arc::default(), &limits).is_err());
        retained.set(&message("b", "123", None), &Arc::default(), &limits).unwrap();
        retained.set(&message("a", "", None), &Arc::default(), &limits).unwrap();
        retained.set(&message("c", "1", None), &Arc::default(), &limits).unwrap();
        assert_eq!((retained.count(), retained.bytes()), (2, 8));
    }

    #[test]
    fn each_identity_has_its_share_and_gets_it_back() {
        let mut retained = Retained::default();
        let limits = Limits::default();
        let weight = message("gate", "open", None).weight();
        let quota = crate::Quota { retained_bytes: 2 * weight, ..(&limits).into() };
        let (one, other) = (Arc::new(Holding::new(quota)), Arc::new(Holding::new(quota)));
        retained.set(&message("gate", "open", None), &one, &limits).unwrap();
        retained.set(&message("door", "open", None), &one, &limits).unwrap();
        let lock = retained.set(&message("lock", "open", None), &one, &limits);
        assert_eq!(lock.unwrap_err(), RetainedFull::Identity);
        let door = retained.set(&message("door", "opened", None), &one, &limits);
        assert_eq!(door.unwrap_err(), RetainedFull::Identity);
        retained.set(&message("door", "shut", None), &one, &limits).unwrap();
        assert_eq!((one.retained.held(), one.retained.refused()), (2 * weight, 2));
        retained.set(&message("gate", "shut", None), &other, &limits).unwrap();
        assert_eq!((one.retained.held(), other.retained.held()), (weight, weight), "whose it is now");
        retained.set(&message("gate", "", None), &one, &limits).unwrap();
        let door = message("door", "open", None);
        retained.put(&door, &one);
        assert!(retained.forget(&door));
        assert_eq!((one.retained.held(), other.retained.held(), retained.count(), retained.bytes()), (0, 0, 0, 0));
    }
}
