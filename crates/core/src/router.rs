//! Topic → recipients, read by every connection at once and never waiting for a writer.

use std::{
    collections::HashMap,
    sync::{
        Arc,
        atomic::{AtomicU64, AtomicUsize, Ordering},
    },
};

use arc_swap::ArcSwap;
use foldhash::fast::RandomState;
use moorfall_wire::{QoS, TopicFilter, TopicName};
use tracing_mutex::parkinglot::Mutex;

pub use crate::retained::{Retained, RetainedFull, RetainedWalk};
use crate::{
    Delivery, Holding, Limits, Message, Part, Run, SessionKey, Time, Via,
    session::Granted,
    subscriptions::{Found, Members, Node, Subscriber},
};

/// One session that receives a topic, however many of its filters match.
#[derive(Clone, Debug)]
pub struct Recipient<T> {
    /// Which session.
    pub session: SessionKey,
    /// The highest QoS that its matching subscriptions were granted.
    pub qos: QoS,
    /// Whether the retain flag is passed on as published.
    pub retain_as_published: bool,
    /// Whether the session wants its own messages left out, by every matching subscription.
    pub no_local: bool,
    /// What the session must be told or remember of the subscriptions that matched.
    pub via: Option<Arc<Via>>,
    /// What reaches the session.
    pub handle: T,
}

impl<T> Recipient<T> {
    /// Whether what `publisher` sends is the session's own and it wants none of these ([MQTT-3.8.3-3]).
    pub fn is_own(&self, publisher: SessionKey) -> bool {
        self.no_local && self.session == publisher
    }

    /// What this recipient is sent of `message`, if anything.
    pub fn delivery(&self, message: &Arc<Message>) -> Option<Delivery> {
        if self.is_own(message.publisher) {
            return None;
        }
        let retain = message.retain && self.retain_as_published;
        let delivery = Delivery::new(Arc::clone(message), message.qos.min(self.qos), retain);
        Some(Delivery { via: self.via.clone(), ..delivery })
    }

    /// What this recipient is sent of `run`, if anything.
    pub fn part(&self, run: &Arc<Run>) -> Option<Part> {
        if self.is_own(run.publisher()) {
            return None;
        }
        Some(Part::new(Arc::clone(run), run.qos().min(self.qos), self.via.clone()))
    }
}

/// A shared subscription that matches: one of its members receives each message (§4.8.2).
#[derive(Debug)]
pub struct Group<T> {
    members: Box<[Recipient<T>]>,
    turn: Arc<AtomicUsize>,
}

/// How much a member has to do.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Load {
    /// It is connected, and so many messages wait for it or for its acknowledgement.
    Waiting(usize),
    /// It is away; its session keeps what comes.
    Away,
    /// Its session is over.
    Over,
}

/// Members that are looked at for one message, as long as one of them is connected.
const LOOKED_AT: usize = 8;

impl<T> Group<T> {
    /// The member whose turn it is: of the next few in the circle the one that has the least to do. Nobody if all
    /// sessions are over.
    pub fn choose(&self, load: impl Fn(&T) -> Load) -> Option<&Recipient<T>> {
        let count = self.members.len();
        let turn = self.turn.fetch_add(1, Ordering::Relaxed);
        let mut best = None;
        for step in 0..count {
            if step >= LOOKED_AT && best.is_some_and(|(load, _)| load < Load::Away) {
                break;
            }
            let member = &self.members[turn.wrapping_add(step) % count];
            let load = load(&member.handle);
            if best.is_none_or(|(least, _)| load < least) {
                best = Some((load, member));
            }
        }
        best.filter(|(load, _)| *load != Load::Over).map(|(_, member)| member)
    }

    /// All members.
    pub fn members(&self) -> &[Recipient<T>] {
        &self.members
    }
}

/// All who receive one topic.
#[derive(Debug)]
pub struct Route<T> {
    /// Sessions with subscriptions of their own.
    pub recipients: Box<[Recipient<T>]>,
    /// Shared subscriptions.
    pub groups: Box<[Group<T>]>,
}

impl<T> Route<T> {
    /// Whether nobody receives the topic.
    pub fn is_empty(&self) -> bool {
        self.recipients.is_empty() && self.groups.is_empty()
    }
}

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
}

#[derive(Clone, Debug)]
struct Snapshot<T> {
    root: Node<T>,
}

impl<T: Clone> Default for Router<T> {
    fn default() -> Self {
        Self {
            current: ArcSwap::from_pointee(Snapshot { root: Node::default() }),
            generation: AtomicU64::new(0),
            changing: Mutex::new(()),
            retained: Mutex::default(),
            subscriptions: AtomicUsize::new(0),
            groups: AtomicUsize::new(0),
        }
    }
}

impl<T: Clone> Router<T> {
    /// Adds a subscription, or replaces the one that the session has at the same filter ([MQTT-3.8.4-3]); gives
    /// whether there was one.
    pub fn subscribe(&self, session: SessionKey, filter: &TopicFilter, granted: Granted, handle: T) -> bool {
        self.change(|root| self.insert(root, filter, session, Subscriber { granted, handle }))
    }

    /// Adds many subscriptions at once, as when stored sessions are loaded.
    pub fn subscribe_all(&self, all: impl IntoIterator<Item = (SessionKey, TopicFilter, Granted, T)>) {
        self.change(|root| {
            for (session, filter, granted, handle) in all {
                self.insert(root, &filter, session, Subscriber { granted, handle });
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
        self.current.store(Arc::new(Snapshot { root }));
        self.generation.fetch_add(1, Ordering::Release);
        result
    }

    /// Who receives `topic` now. A session with several matching subscriptions receives it once, at the highest QoS
    /// among them, with all their identifiers (§3.3.4).
    pub fn route(&self, topic: &TopicName) -> Arc<Route<T>> {
        Self::route_in(&self.current.load(), topic)
    }

    fn route_in(snapshot: &Snapshot<T>, topic: &TopicName) -> Arc<Route<T>> {
        let mut recipients: Vec<Recipient<T>> = Vec::new();
        let mut groups = Vec::new();
        snapshot.root.visit(topic, |found| match found {
            Found::Subscriber(session, subscriber) => recipients.push(recipient(session, subscriber, None)),
            Found::Group(filter, members) => groups.push(group(filter, members)),
        });
        recipients.sort_by_key(|recipient| recipient.session);
        recipients.dedup_by(|next, kept| {
            let same = next.session == kept.session;
            if same {
                kept.qos = kept.qos.max(next.qos);
                kept.retain_as_published |= next.retain_as_published;
                kept.no_local &= next.no_local;
                if let Some(more) = &next.via {
                    let via = Arc::make_mut(kept.via.get_or_insert_default());
                    via.identifiers.extend_from_slice(&more.identifiers);
                }
            }
            same
        });
        Arc::new(Route { recipients: recipients.into(), groups: groups.into() })
    }

    /// The members of a shared subscription now; `None` if it has none.
    pub fn group(&self, filter: &TopicFilter) -> Option<Group<T>> {
        let members = self.current.load().root.members(filter)?;
        Some(group(filter, &members))
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
    pub fn each_subscription(&self, mut found: impl FnMut(&str, SessionKey, Granted, &T)) {
        let snapshot = self.current.load_full();
        snapshot.root.each(&mut |filter, key, subscriber| found(filter, key, subscriber.granted, &subscriber.handle));
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

fn group<T: Clone>(filter: &TopicFilter, members: &Members<T>) -> Group<T> {
    let each = members.by_key.iter().map(|(session, member)| recipient(*session, member, Some(filter)));
    Group { members: each.collect(), turn: Arc::clone(&members.turn) }
}

fn recipient<T: Clone>(session: SessionKey, subscriber: &Subscriber<T>, shared: Option<&TopicFilter>) -> Recipient<T> {
    let Subscriber { granted: Granted { options, identifier }, handle } = subscriber;
    let told = shared.is_some() || identifier.is_some();
    let via = told.then(|| Arc::new(Via { identifiers: Vec::from_iter(*identifier), shared: shared.cloned() }));
    Recipient {
        session,
        qos: options.qos,
        retain_as_published: options.retain_as_published,
        no_local: options.no_local,
        via,
        handle: handle.clone(),
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

    fn granted(qos: QoS) -> Granted {
        Granted { options: SubscriptionOptions { qos, ..SubscriptionOptions::default() }, identifier: None }
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
            router.subscribe(SessionKey(1), &filter.parse().unwrap(), granted(qos), "first");
        }
        router.subscribe(SessionKey(2), &"#".parse().unwrap(), granted(QoS::AtMostOnce), "second");
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
        router.subscribe(SessionKey(1), &filter, granted(QoS::AtMostOnce), ());
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
        let no_local = Granted { options, identifier: None };
        router.subscribe(SessionKey(1), &"gate".parse().unwrap(), no_local, ());
        assert!(router.route(&topic).recipients[0].no_local);
        router.subscribe(SessionKey(1), &"#".parse().unwrap(), granted(QoS::AtMostOnce), ());
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
                Granted { identifier, ..granted(QoS::AtMostOnce) },
                (),
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
            router.subscribe(SessionKey(key), &filter.parse().unwrap(), granted(QoS::AtMostOnce), key);
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
            .filter_map(|_| desk.choose(|key| Load::Waiting(*key as usize)))
            .map(|member| member.handle)
            .collect();
        assert_eq!(chosen, [1, 1], "the one with less to do");
        let away = |key: &u64| if *key == 2 { Load::Away } else { Load::Over };
        assert_eq!(desk.choose(away).map(|member| member.handle), Some(2), "better than nobody");
        assert!(desk.choose(|_| Load::Over).is_none());
        assert_eq!(router.group(&"$share/log/gate/#".parse().unwrap()).unwrap().members()[0].handle, 3);
    }
}
