//! Topic → recipients, read by every connection at once and never waiting for a writer.

use std::{
    collections::HashMap,
    sync::{Arc, atomic::AtomicUsize, atomic::Ordering},
};

use arc_swap::ArcSwap;
use foldhash::fast::RandomState;
use moorfall_wire::{QoS, SubscriptionOptions, TopicFilter, TopicName};
use parking_lot::Mutex;

pub use crate::retained::RetainedFull;
use crate::{
    Limits, Message, SessionKey, Time,
    retained::Retained,
    subscriptions::{Node, Subscriber},
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
    /// What reaches the session.
    pub handle: T,
}

/// All who receive one topic.
pub type Route<T> = Arc<[Recipient<T>]>;

/// The subscription index and the retained messages.
///
/// 1. A published snapshot never changes; a change publishes a new one with the next generation.
/// 2. Changes are made one at a time, under `changing`; routing takes no lock.
/// 3. A session that subscribes is in the index before its retained messages are looked up, so a message that is
///    published meanwhile may reach it twice but not be missed.
#[derive(Debug)]
pub struct Router<T> {
    current: ArcSwap<Snapshot<T>>,
    changing: Mutex<()>,
    retained: Mutex<Retained>,
    subscriptions: AtomicUsize,
}

#[derive(Clone, Debug)]
struct Snapshot<T> {
    root: Node<T>,
    generation: u64,
}

impl<T: Clone> Default for Router<T> {
    fn default() -> Self {
        Self {
            current: ArcSwap::from_pointee(Snapshot { root: Node::default(), generation: 0 }),
            changing: Mutex::new(()),
            retained: Mutex::default(),
            subscriptions: AtomicUsize::new(0),
        }
    }
}

impl<T: Clone> Router<T> {
    /// Adds a subscription, or replaces the one that the session has at the same filter ([MQTT-3.8.4-3]); gives
    /// whether there was one.
    pub fn subscribe(
        &self,
        session: SessionKey,
        filter: &TopicFilter,
        options: SubscriptionOptions,
        handle: T,
    ) -> bool {
        let existed = self.change(|root| root.insert(filter, session, Subscriber { options, handle }));
        if !existed {
            self.subscriptions.fetch_add(1, Ordering::Relaxed);
        }
        existed
    }

    /// Removes subscriptions of a session; gives how many there were.
    pub fn unsubscribe<'a>(&self, session: SessionKey, filters: impl IntoIterator<Item = &'a TopicFilter>) -> usize {
        let removed = self.change(|root| filters.into_iter().filter(|filter| root.remove(filter, session)).count());
        self.subscriptions.fetch_sub(removed, Ordering::Relaxed);
        removed
    }

    fn change<R>(&self, change: impl FnOnce(&mut Node<T>) -> R) -> R {
        let _one_at_a_time = self.changing.lock();
        let old = self.current.load_full();
        let mut root = old.root.clone();
        let result = change(&mut root);
        self.current.store(Arc::new(Snapshot { root, generation: old.generation + 1 }));
        result
    }

    /// Who receives `topic` now. A session with several matching subscriptions receives it once, at the highest QoS
    /// among them (§3.3.4).
    pub fn route(&self, topic: &TopicName) -> Route<T> {
        Self::route_in(&self.current.load(), topic)
    }

    fn route_in(snapshot: &Snapshot<T>, topic: &TopicName) -> Route<T> {
        let mut recipients: Vec<Recipient<T>> = Vec::new();
        snapshot.root.visit(topic, |session, subscriber| {
            recipients.push(Recipient {
                session,
                qos: subscriber.options.qos,
                retain_as_published: subscriber.options.retain_as_published,
                no_local: subscriber.options.no_local,
                handle: subscriber.handle.clone(),
            });
        });
        recipients.sort_by_key(|recipient| recipient.session);
        recipients.dedup_by(|next, kept| {
            let same = next.session == kept.session;
            if same {
                kept.qos = kept.qos.max(next.qos);
                kept.retain_as_published |= next.retain_as_published;
                kept.no_local &= next.no_local;
            }
            same
        });
        recipients.into()
    }

    /// Keeps or clears the retained message of a topic.
    pub fn retain(&self, message: &Message, limits: &Limits) -> Result<(), RetainedFull> {
        self.retained.lock().set(message, limits)
    }

    /// The retained messages that `filter` matches at `now`.
    pub fn retained(&self, filter: &TopicFilter, now: Time) -> Vec<Arc<Message>> {
        // The walk may be long; it runs on a snapshot so that publishers don't wait for it.
        let snapshot = self.retained.lock().clone();
        snapshot.matching(filter, now)
    }

    /// Retained messages, and the bytes of their payloads, topics and properties.
    pub fn retained_size(&self) -> (usize, usize) {
        let retained = self.retained.lock();
        (retained.count(), retained.bytes())
    }

    /// Subscriptions of all sessions.
    pub fn subscription_count(&self) -> usize {
        self.subscriptions.load(Ordering::Relaxed)
    }
}

/// One publisher's hot routes. A route is good as long as the generation of the index is the one it was made in.
#[derive(Debug)]
pub struct RouteCache<T> {
    routes: HashMap<Box<str>, Route<T>, RandomState>,
    generation: u64,
}

impl<T> Default for RouteCache<T> {
    fn default() -> Self {
        Self { routes: HashMap::default(), generation: 0 }
    }
}

impl<T: Clone> RouteCache<T> {
    /// Topics that one publisher keeps; when there are more the cache starts anew.
    const TOPICS: usize = 128;

    /// The same as [`Router::route`], from memory if nothing has changed since.
    pub fn route(&mut self, router: &Router<T>, topic: &TopicName) -> Route<T> {
        let snapshot = router.current.load();
        if self.generation != snapshot.generation {
            self.routes.clear();
            self.generation = snapshot.generation;
        }
        if let Some(route) = self.routes.get(&**topic) {
            return Arc::clone(route);
        }
        if self.routes.len() >= Self::TOPICS {
            self.routes.clear();
        }
        let route = Router::route_in(&snapshot, topic);
        self.routes.insert(topic.to_string().into(), Arc::clone(&route));
        route
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn options(qos: QoS) -> SubscriptionOptions {
        SubscriptionOptions { qos, ..SubscriptionOptions::default() }
    }

    #[test]
    fn overlapping_filters_of_one_session_give_one_recipient_at_the_highest_qos() {
        let router = Router::default();
        let topic = "harrowmere/gorge/kettle-weir/stage/level".parse().unwrap();
        for (filter, qos) in
            [("harrowmere/#", QoS::AtMostOnce), ("+/gorge/#", QoS::AtLeastOnce), ("nothing", QoS::AtLeastOnce)]
        {
            router.subscribe(SessionKey(1), &filter.parse().unwrap(), options(qos), "first");
        }
        router.subscribe(SessionKey(2), &"#".parse().unwrap(), options(QoS::AtMostOnce), "second");
        let route = router.route(&topic);
        let seen: Vec<_> = route.iter().map(|recipient| (recipient.handle, recipient.qos)).collect();
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
        router.subscribe(SessionKey(1), &filter, options(QoS::AtMostOnce), ());
        let first = cache.route(&router, &topic);
        assert_eq!(first.len(), 1);
        assert!(Arc::ptr_eq(&first, &cache.route(&router, &topic)), "from memory");
        assert_eq!(router.unsubscribe(SessionKey(1), [&filter]), 1);
        assert!(cache.route(&router, &topic).is_empty());
        assert_eq!(router.subscription_count(), 0);
    }

    #[test]
    fn own_messages_are_left_out_only_if_every_matching_subscription_says_so() {
        let router = Router::default();
        let topic = "gate".parse().unwrap();
        let no_local = SubscriptionOptions { no_local: true, ..SubscriptionOptions::default() };
        router.subscribe(SessionKey(1), &"gate".parse().unwrap(), no_local, ());
        assert!(router.route(&topic)[0].no_local);
        router.subscribe(SessionKey(1), &"#".parse().unwrap(), options(QoS::AtMostOnce), ());
        assert!(!router.route(&topic)[0].no_local);
    }
}
