//! Topic → recipients, read by every connection at once and never waiting for a writer.

use std::{
    collections::HashMap,
    sync::{
        Arc,
        atomic::{AtomicU64, AtomicUsize, Ordering},
    },
};

use arc_swap::ArcSwap;
use bytes::Bytes;
use foldhash::fast::RandomState;
use moorfall_wire::{QoS, TopicFilter, TopicName};
use tracing_mutex::parkinglot::Mutex;

pub use crate::retained::{Retained, RetainedFull, RetainedWalk};
use crate::{
    Granted, Holding, Limits, Message, SessionKey, Time, When,
    owned::OwnedPaths,
    subscriptions::{Found, Node},
};
pub use crate::{
    route::{Conditional, Group, Load, Recipient, Route, Way, judge_all},
    subscriptions::Subscriber,
};

/// Whether a message is to be filed before its publisher is told that it is safe: it is kept for its topic, its QoS 2
/// identifier is kept for its publisher, or it waits for a session that outlives its connection. `recipients` are the
/// highest QoS of each and whether it is such a session. This is the one place where it is decided.
pub fn is_filed(
    qos: QoS,
    retain: bool,
    publisher_is_kept: bool,
    recipients: impl IntoIterator<Item = (QoS, bool)>,
) -> bool {
    retain
        || qos == QoS::ExactlyOnce && publisher_is_kept
        || recipients.into_iter().any(|(highest, is_kept)| is_kept && qos.min(highest) > QoS::AtMostOnce)
}

/// The subscription index and the retained messages.
///
/// 1. A published snapshot never changes; a change publishes a new one with the next generation.
/// 2. Changes are made one at a time, under `changing`; routing takes no lock.
/// 3. A session that subscribes is in the index before its retained messages are looked up, so a message that is
///    published meanwhile may reach it twice but not be missed.
#[derive(Debug)]
pub struct Router<T> {
    current: ArcSwap<Snapshot<T>>,
    /// That of `current`, or of the one before while it is being changed.
    generation: AtomicU64,
    changing: Mutex<()>,
    retained: Mutex<Retained>,
    subscriptions: AtomicUsize,
    /// Groups of shared subscriptions.
    groups: AtomicUsize,
    before: Mutex<Before>,
}

/// Payloads of the newest messages, of topics that conditions look back on. When there are too many it begins anew.
#[derive(Debug, Default)]
struct Before {
    payloads: HashMap<TopicName, Bytes, RandomState>,
    bytes: usize,
}

impl Before {
    /// Topics, and bytes of their names and payloads.
    const MOST: (usize, usize) = (10_000, 16 * 1024 * 1024);

    /// The longest payload that is remembered, bytes.
    const LONGEST: usize = 16 * 1024;

    fn put(&mut self, message: &Message) -> Option<Bytes> {
        let takes = |payload: &Bytes| message.topic.len() + payload.len();
        let before = self.payloads.remove(&message.topic);
        self.bytes -= before.as_ref().map_or(0, takes);
        if message.payload.len() <= Self::LONGEST {
            let more = takes(&message.payload);
            if self.payloads.len() >= Self::MOST.0 || self.bytes + more > Self::MOST.1 {
                *self = Self::default();
            }
            self.bytes += more;
            // What stays must not keep the memory of what was received.
            self.payloads.insert(message.topic.detached(), Bytes::copy_from_slice(&message.payload));
        }
        before
    }
}

#[derive(Clone, Debug)]
struct Snapshot<T> {
    root: Node<T>,
    owned: Arc<OwnedPaths>,
}

impl<T: Clone> Default for Router<T> {
    fn default() -> Self {
        Self {
            current: ArcSwap::from_pointee(Snapshot { root: Node::default(), owned: Arc::default() }),
            generation: AtomicU64::new(0),
            changing: Mutex::new(()),
            retained: Mutex::default(),
            subscriptions: AtomicUsize::new(0),
            groups: AtomicUsize::new(0),
            before: Mutex::default(),
        }
    }
}

impl<T: Clone> Router<T> {
    /// Adds a subscription, or replaces the one that the session has at the same filter ([MQTT-3.8.4-3]); gives
    /// whether there was one.
    pub fn subscribe(&self, session: SessionKey, filter: &TopicFilter, subscriber: Subscriber<T>) -> bool {
        self.change(|root| self.insert(root, filter, session, subscriber))
    }

    /// Adds many subscriptions at once, as when stored sessions are loaded.
    pub fn subscribe_all(&self, all: impl IntoIterator<Item = (SessionKey, TopicFilter, Subscriber<T>)>) {
        self.change(|root| {
            for (session, filter, subscriber) in all {
                self.insert(root, &filter, session, subscriber);
            }
        });
    }

    fn insert(&self, root: &mut Node<T>, filter: &TopicFilter, session: SessionKey, new: Subscriber<T>) -> bool {
        let existed = root.insert(filter, session, new);
        if !existed {
            self.subscriptions.fetch_add(1, Ordering::Relaxed);
            let is_first =
                filter.shared().is_some() && root.members(filter).is_some_and(|members| members.by_key.len() == 1);
            self.groups.fetch_add(is_first.into(), Ordering::Relaxed);
        }
        existed
    }

    fn remove(&self, root: &mut Node<T>, filter: &TopicFilter, session: SessionKey) -> bool {
        let existed = root.remove(filter, session);
        if existed {
            self.subscriptions.fetch_sub(1, Ordering::Relaxed);
            let was_last = filter.shared().is_some() && root.members(filter).is_none();
            self.groups.fetch_sub(was_last.into(), Ordering::Relaxed);
        }
        existed
    }

    /// Removes subscriptions of a session; gives how many there were.
    pub fn unsubscribe<'a>(&self, session: SessionKey, filters: impl IntoIterator<Item = &'a TopicFilter>) -> usize {
        self.change(|root| filters.into_iter().filter(|filter| self.remove(root, filter, session)).count())
    }

    fn change<R>(&self, change: impl FnOnce(&mut Node<T>) -> R) -> R {
        let _one_at_a_time = self.changing.lock();
        let old = self.current.load_full();
        let mut root = old.root.clone();
        let result = change(&mut root);
        self.current.store(Arc::new(Snapshot { root, owned: Arc::clone(&old.owned) }));
        self.generation.fetch_add(1, Ordering::Release);
        result
    }

    /// These topics have owners from now on, and no others.
    pub fn set_owned(&self, owned: Arc<OwnedPaths>) {
        let _one_at_a_time = self.changing.lock();
        let root = self.current.load().root.clone();
        self.current.store(Arc::new(Snapshot { root, owned }));
        self.generation.fetch_add(1, Ordering::Release);
    }

    /// Which topics have owners.
    pub fn owned(&self) -> Arc<OwnedPaths> {
        Arc::clone(&self.current.load().owned)
    }

    /// The payload of the message before on its topic, and remembers this one in its place: for conditions that look back.
    pub fn look_back(&self, message: &Message) -> Option<Bytes> {
        self.before.lock().put(message)
    }

    /// The payload of the newest message of a topic, if a condition looks back on it.
    pub fn before(&self, topic: &TopicName) -> Option<Bytes> {
        self.before.lock().payloads.get(topic).cloned()
    }

    /// Who receives `topic` now. A session with several matching subscriptions receives it once, at the highest QoS
    /// among them, with all their identifiers (§3.3.4).
    pub fn route(&self, topic: &TopicName) -> Arc<Route<T>> {
        Self::route_in(&self.current.load(), topic)
    }

    fn route_in(snapshot: &Snapshot<T>, topic: &TopicName) -> Arc<Route<T>> {
        let mut ways: Vec<Way<T>> = Vec::new();
        let mut groups = Vec::new();
        snapshot.root.visit(topic, |found| match found {
            Found::Subscriber(session, subscriber) => ways.push(Way::new(session, subscriber, None, topic)),
            Found::Group(filter, members) => groups.push(Group::new(filter, members, topic)),
        });
        Arc::new(Route::new(ways, groups).owned_by(snapshot.owned.find(topic).cloned()))
    }

    /// Whether a shared subscription has such a member now.
    pub fn has_member(&self, filter: &TopicFilter, is_such: impl Fn(SessionKey, &T) -> bool) -> bool {
        let members = self.current.load().root.members(filter);
        members.is_some_and(|members| members.by_key.iter().any(|(session, one)| is_such(*session, &one.handle)))
    }

    /// What the design says of which messages a session gets is otherwise now.
    pub fn change_conditions<'a>(
        &self,
        session: SessionKey,
        filters: impl IntoIterator<Item = (&'a TopicFilter, &'a Granted)>,
        when: Option<&Arc<Vec<When>>>,
        handle: &T,
    ) {
        self.change(|root| {
            for (filter, granted) in filters {
                let (granted, when, handle) = (granted.clone(), when.cloned(), handle.clone());
                self.insert(root, filter, session, Subscriber { granted, when, handle });
            }
        });
    }

    /// The members of a shared subscription now, for a message of this topic; `None` if it has none.
    pub fn group(&self, filter: &TopicFilter, topic: &TopicName) -> Option<Group<T>> {
        let members = self.current.load().root.members(filter)?;
        Some(Group::new(filter, &members, topic))
    }

    /// Keeps or clears the retained message of a topic; gives the one before. It counts in the share of its owner. The
    /// message must not borrow a receive buffer: it may stay for good.
    pub fn retain(
        &self,
        message: &Arc<Message>,
        owner: &Arc<Holding>,
        limits: &Limits,
    ) -> Result<Option<Arc<Message>>, RetainedFull> {
        self.retained.lock().set(message, owner, limits)
    }

    /// Keeps a message of the service itself as the retained one of its topic; it counts in no limit.
    pub fn retain_own(&self, message: &Arc<Message>) {
        self.retained.lock().put_own(message);
    }

    /// Puts a retained message back that was kept before, whatever the bounds are now.
    pub fn restore_retained(&self, message: &Arc<Message>, owner: &Arc<Holding>) {
        self.retained.lock().put(message, owner);
    }

    /// Retained messages whose life is over at `now`.
    pub fn expired(&self, now: Time) -> Vec<Arc<Message>> {
        let snapshot = self.retained.lock().clone();
        snapshot.expired(now)
    }

    /// Forgets a retained message, unless another has taken its place; gives whether it did.
    pub fn forget(&self, message: &Arc<Message>) -> bool {
        self.retained.lock().forget(message)
    }

    /// The retained messages that `filter` matches at `now`.
    pub fn retained(&self, filter: &TopicFilter, now: Time) -> Vec<Arc<Message>> {
        // The walk may be long; it runs on a snapshot so that publishers don't wait for it.
        let snapshot = self.retained.lock().clone();
        snapshot.matching(filter, now)
    }

    /// The retained messages as they are now, for a walk.
    pub fn look_at_retained(&self) -> Retained {
        self.retained.lock().clone()
    }

    /// All retained messages, in no order; the lives of some may be over.
    pub fn all_retained(&self) -> Vec<Arc<Message>> {
        let snapshot = self.retained.lock().clone();
        snapshot.all()
    }

    /// The retained message of a topic.
    pub fn retained_of(&self, topic: &TopicName) -> Option<Arc<Message>> {
        self.retained.lock().of(topic).cloned()
    }

    /// Calls `found` for every subscription, with its filter and whose it is.
    pub fn each_subscription(&self, mut found: impl FnMut(&str, SessionKey, &Subscriber<T>)) {
        let snapshot = self.current.load_full();
        snapshot.root.each(&mut |filter, key, subscriber| found(filter, key, subscriber));
    }

    /// Retained messages but the service's own, and the bytes of their payloads, topics and properties.
    pub fn retained_size(&self) -> (usize, usize) {
        let retained = self.retained.lock();
        (retained.count(), retained.bytes())
    }

    /// Groups of shared subscriptions.
    pub fn group_count(&self) -> usize {
        self.groups.load(Ordering::Relaxed)
    }

    /// Subscriptions of all sessions.
    pub fn subscription_count(&self) -> usize {
        self.subscriptions.load(Ordering::Relaxed)
    }
}

/// One publisher's hot routes. A route is good as long as the generation of the index is the one it was made in.
#[derive(Debug)]
pub struct RouteCache<T> {
    routes: HashMap<Box<str>, Arc<Route<T>>, RandomState>,
    /// The one that was asked for last.
    last: Option<(Box<str>, Arc<Route<T>>)>,
    generation: u64,
}

impl<T> Default for RouteCache<T> {
    fn default() -> Self {
        Self { routes: HashMap::default(), last: None, generation: 0 }
    }
}

impl<T: Clone> RouteCache<T> {
    /// Topics that one publisher keeps; when there are more the cache starts anew.
    const TOPICS: usize = 128;

    /// The same as [`Router::route`], from memory if nothing has changed since.
    pub fn route(&mut self, router: &Router<T>, topic: &TopicName) -> &Arc<Route<T>> {
        // Read before the index: a route can be newer than its generation says, never older.
        let generation = router.generation.load(Ordering::Acquire);
        if self.generation != generation {
            self.routes.clear();
            self.last = None;
            self.generation = generation;
        }
        // Most publishers stay with one topic for a while.
        if self.last.as_ref().is_some_and(|(last, _)| **last == **topic) {
            return self.last.as_ref().map(|(_, route)| route).expect("seen just now");
        }
        let known = self.routes.get(&**topic).map(Arc::clone);
        let route = known.unwrap_or_else(|| {
            if self.routes.len() >= Self::TOPICS {
                self.routes.clear();
            }
            let route = router.route(topic);
            self.routes.insert(topic.to_string().into(), Arc::clone(&route));
            route
        });
        let (_, route) = self.last.insert((topic.to_string().into(), route));
        route
    }
}

#[cfg(test)]
mod tests {
    use std::num::NonZeroU32;

    use moorfall_wire::{SubscriptionOptions, VariableInt};

    use super::*;
    use crate::{Condition, Judged, Judging, TopicSet};

    fn granted(qos: QoS) -> Granted {
        Granted {
            options: SubscriptionOptions { qos, ..SubscriptionOptions::default() },
            identifier: None,
            condition: None,
        }
    }

    #[test]
    fn a_message_is_filed_exactly_if_something_of_it_must_outlive_the_service() {
        let qualities = [QoS::AtMostOnce, QoS::AtLeastOnce, QoS::ExactlyOnce];
        let one: Vec<_> = qualities.into_iter().flat_map(|qos| [(qos, false), (qos, true)]).collect();
        let none = std::iter::once(Vec::new());
        let pairs = one.iter().flat_map(|first| one.iter().map(|second| vec![*first, *second]));
        let several: Vec<_> = none.chain(one.iter().map(|only| vec![*only])).chain(pairs).collect();
        for qos in qualities {
            for recipients in &several {
                // A queue outlives its connection, and a message at QoS 0 is not promised to it.
                let waits = recipients
                    .iter()
                    .any(|(highest, is_kept)| *is_kept && qos != QoS::AtMostOnce && *highest != QoS::AtMostOnce);
                for (retain, publisher_is_kept) in [(false, false), (false, true), (true, false), (true, true)] {
                    let has_identifier = publisher_is_kept && qos == QoS::ExactlyOnce;
                    let is = is_filed(qos, retain, publisher_is_kept, recipients.iter().copied());
                    assert_eq!(
                        is,
                        retain || waits || has_identifier,
                        "{qos:?} {retain} {publisher_is_kept} {recipients:?}"
                    );
                }
            }
        }
    }

    #[test]
    fn overlapping_filters_of_one_session_give_one_recipient_at_the_highest_qos() {
        let router = Router::default();
        let topic = "harrowmere/gorge/kettle-weir/stage/level".parse().unwrap();
        for (filter, qos) in
            [("harrowmere/#", QoS::AtMostOnce), ("+/gorge/#", QoS::AtLeastOnce), ("nothing", QoS::AtLeastOnce)]
        {
            router.subscribe(SessionKey(1), &filter.parse().unwrap(), Subscriber::new(granted(qos), "first"));
        }
        router.subscribe(SessionKey(2), &"#".parse().unwrap(), Subscriber::new(granted(QoS::AtMostOnce), "second"));
        let route = router.route(&topic);
        let seen: Vec<_> = route.recipients.iter().map(|recipient| (recipient.handle, recipient.qos)).collect();
        assert_eq!(seen, [("first", QoS::AtLeastOnce), ("second", QoS::AtMostOnce)]);
        assert_eq!(router.subscription_count(), 4);
    }

    #[test]
    fn a_cached_route_follows_every_change() {
        let router = Router::default();
        let mut cache = RouteCache::default();
        let topic = "harrowmere/tidal/barrier/status".parse().unwrap();
        let filter = "harrowmere/#".parse().unwrap();
        assert!(cache.route(&router, &topic).is_empty());
        router.subscribe(SessionKey(1), &filter, Subscriber::new(granted(QoS::AtMostOnce), ()));
        let first = Arc::clone(cache.route(&router, &topic));
        assert_eq!(first.recipients.len(), 1);
        assert!(Arc::ptr_eq(&first, cache.route(&router, &topic)), "from memory");
        assert_eq!(router.unsubscribe(SessionKey(1), [&filter]), 1);
        assert!(cache.route(&router, &topic).is_empty());
        assert_eq!(router.subscription_count(), 0);
    }

    #[test]
    fn own_messages_are_left_out_only_if_every_matching_subscription_says_so() {
        let router = Router::default();
        let topic = "gate".parse().unwrap();
        let options = SubscriptionOptions { no_local: true, ..SubscriptionOptions::default() };
        let no_local = Granted { options, ..granted(QoS::AtMostOnce) };
        router.subscribe(SessionKey(1), &"gate".parse().unwrap(), Subscriber::new(no_local, ()));
        assert!(router.route(&topic).recipients[0].no_local);
        router.subscribe(SessionKey(1), &"#".parse().unwrap(), Subscriber::new(granted(QoS::AtMostOnce), ()));
        assert!(!router.route(&topic).recipients[0].no_local);
    }

    #[test]
    fn a_message_carries_the_identifiers_of_all_subscriptions_that_matched() {
        let router = Router::default();
        for (filter, identifier) in [("gate/#", 7), ("gate/+", 9), ("#", 11)] {
            let identifier = NonZeroU32::new(identifier).map(VariableInt);
            router.subscribe(
                SessionKey(1),
                &filter.parse().unwrap(),
                Subscriber::new(Granted { identifier, ..granted(QoS::AtMostOnce) }, ()),
            );
        }
        let route = router.route(&"gate/target".parse().unwrap());
        let mut numbers: Vec<_> =
            route.recipients[0].via.as_ref().unwrap().identifiers.iter().map(|number| number.0.get()).collect();
        numbers.sort_unstable();
        assert_eq!(numbers, [7, 9, 11]);
    }

    #[test]
    fn one_member_of_each_group_is_chosen_by_turn_and_by_load() {
        let router = Router::default();
        for (key, filter) in [(1, "$share/desk/gate/#"), (2, "$share/desk/gate/#"), (3, "$share/log/gate/#")] {
            router.subscribe(SessionKey(key), &filter.parse().unwrap(), Subscriber::new(granted(QoS::AtMostOnce), key));
        }
        let route = router.route(&"gate/target".parse().unwrap());
        assert!(route.recipients.is_empty());
        let mut sizes: Vec<_> = route.groups.iter().map(|group| group.members().len()).collect();
        sizes.sort_unstable();
        assert_eq!(sizes, [1, 2]);
        let desk = route.groups.iter().find(|group| group.members().len() == 2).unwrap();
        let chosen: Vec<_> =
            (0..4).filter_map(|_| desk.choose(|_| Load::Waiting(0))).map(|member| member.handle).collect();
        assert_eq!(chosen, [1, 2, 1, 2], "in turn");
        let chosen: Vec<_> = (0..2)
            .filter_map(|_| desk.choose(|way| Load::Waiting(way.recipient.handle as usize)))
            .map(|member| member.handle)
            .collect();
        assert_eq!(chosen, [1, 1], "the one with less to do");
        let away = |way: &Way<u64>| if way.recipient.handle == 2 { Load::Away } else { Load::Over };
        assert_eq!(desk.choose(away).map(|member| member.handle), Some(2), "better than nobody");
        assert!(desk.choose(|_| Load::Over).is_none());
        let topic = "gate/target".parse().unwrap();
        let group = router.group(&"$share/log/gate/#".parse().unwrap(), &topic).unwrap();
        assert_eq!(group.members()[0].recipient.handle, 3);
    }

    fn only(text: &str, qos: QoS) -> Granted {
        Granted { condition: Some(Condition::shared(text).unwrap()), ..granted(qos) }
    }

    #[test]
    fn whether_a_session_receives_a_message_depends_on_what_is_true_of_it() {
        let router = Router::default();
        let number = |number| NonZeroU32::new(number).map(VariableInt);
        let high = Granted { identifier: number(1), ..only("payload.m > 2", QoS::ExactlyOnce) };
        let low = Granted { identifier: number(2), ..only("payload.m < 1", QoS::AtMostOnce) };
        let mine: [(&str, Granted); 3] =
            [("gate/#", high), ("gate/+", low), ("gate/target", only("payload.m > 3", QoS::AtLeastOnce))];
        for (filter, granted) in mine {
            router.subscribe(SessionKey(1), &filter.parse().unwrap(), Subscriber::new(granted, "mine"));
        }
        let all = Subscriber::new(granted(QoS::AtMostOnce), "all");
        router.subscribe(SessionKey(2), &"#".parse().unwrap(), all);
        let topic: TopicName = "gate/target".parse().unwrap();
        let route = router.route(&topic);
        assert_eq!((route.recipients.len(), route.conditional.len(), route.is_plain()), (1, 1, false));
        let judge = |payload: &str| {
            let mut judging = Judging::new(&topic, payload.as_bytes(), (0, false), None);
            route.conditional[0].judge(&mut judging).map(|one| {
                let via = one.via.as_ref().map_or(Vec::new(), |via| via.identifiers.clone());
                (one.qos, via.into_iter().map(|number| number.0.get()).collect::<Vec<_>>())
            })
        };
        assert_eq!(judge(r#"{"m": 2.5}"#), Ok((QoS::ExactlyOnce, vec![1])));
        assert_eq!(judge(r#"{"m": 3.5}"#), Ok((QoS::ExactlyOnce, vec![1])), "one more that has no identifier");
        assert_eq!(judge(r#"{"m": 0}"#), Ok((QoS::AtMostOnce, vec![2])));
        assert_eq!(judge(r#"{"m": 1.5}"#), Err(Judged::NotTrue));
        assert_eq!(judge("{}"), Err(Judged::Failed));
        let best = route.conditional[0].at_best();
        assert_eq!((best.qos, best.handle), (QoS::ExactlyOnce, "mine"));
    }

    #[test]
    fn what_the_design_says_counts_for_its_topics_alone() {
        let router = Router::default();
        let condition = Condition::shared("payload.m > 2 && before == null").unwrap();
        let topics = vec![TopicSet::of_filter("gate/+")];
        let when = Some(Arc::new(vec![When { name: "high".into(), topics, condition }]));
        for (session, filter) in [(1, "#"), (2, "$share/desk/#")] {
            let subscriber = Subscriber { when: when.clone(), ..Subscriber::new(granted(QoS::AtMostOnce), session) };
            router.subscribe(SessionKey(session), &filter.parse().unwrap(), subscriber);
        }
        let elsewhere = router.route(&"tide/level".parse().unwrap());
        assert_eq!((elsewhere.recipients.len(), elsewhere.conditional.len(), elsewhere.looks_back), (1, 0, false));
        let route = router.route(&"gate/target".parse().unwrap());
        assert_eq!((route.recipients.len(), route.conditional.len(), route.looks_back), (0, 1, true));
        let mut judging = Judging::new("gate/target", b"{\"m\": 1}", (0, false), None);
        assert_eq!(route.groups[0].members()[0].judge(&mut judging), Judged::NotTrue);
    }

    #[test]
    fn the_message_before_is_remembered_within_bounds() {
        let router: Router<()> = Router::default();
        let say = |topic: &str, payload: Vec<u8>| {
            let properties = moorfall_wire::PublishProperties::default();
            let topic = topic.parse().unwrap();
            let message = Message::new(
                topic,
                payload.into(),
                QoS::AtMostOnce,
                false,
                properties,
                SessionKey(0),
                Time::from_micros(1),
            );
            router.look_back(&message)
        };
        assert_eq!(say("gate", b"1".to_vec()), None);
        assert_eq!(say("gate", b"2".to_vec()).as_deref(), Some(&b"1"[..]));
        assert_eq!(say("gate", vec![0; Before::LONGEST + 1]).as_deref(), Some(&b"2"[..]));
        assert_eq!(say("gate", b"3".to_vec()), None, "too long to be remembered");
        for number in 0..Before::MOST.0 * 2 {
            say(&format!("gate/{number}"), vec![0; 2_000]);
            let before = router.before.lock();
            assert!(before.bytes <= Before::MOST.1 && before.payloads.len() <= Before::MOST.0);
            let takes = |(topic, payload): (&TopicName, &Bytes)| topic.len() + payload.len();
            let is_counted = || before.bytes == before.payloads.iter().map(takes).sum::<usize>();
            assert!(number % 500 != 0 || is_counted());
        }
    }
}
