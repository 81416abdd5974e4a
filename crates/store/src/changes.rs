//! What one commit writes: the last state of each thing that changed, whatever happened in between.
//!
//! Changes are put together in memory while the commit before them is on its way. A message that is done with before
//! it was written leaves nothing. All statements that come of it may be run again without harm, so a commit whose
//! outcome is unknown is simply repeated.

use std::{collections::HashMap, hash::Hash, sync::Arc};

use foldhash::fast::RandomState;
use moorfall_core::{
    Delivery, Message, SessionKey,
    session::{DelayedWill, Granted},
};
use moorfall_wire::{PacketId, TopicFilter};
use time::OffsetDateTime;

use crate::{Author, Deed};

/// A session as it is stored.
#[derive(Clone, Debug)]
pub struct SessionRow {
    /// Its client identifier.
    pub client_id: String,
    /// Whose it is.
    pub identity: Arc<str>,
    /// Seconds that it outlives its connection.
    pub expiry: u32,
    /// When its connection ended, microseconds since 1970; `None` while it is connected.
    pub away_since: Option<u64>,
    /// When it began, microseconds since 1970.
    pub began_at: u64,
    /// What is published when its connection ends, or when its delay is over.
    pub will: Option<DelayedWill>,
}

/// A delivery as it is stored.
#[derive(Clone, Debug)]
pub(crate) struct DeliveryRow {
    pub(crate) delivery: Delivery,
    pub(crate) packet_id: Option<PacketId>,
    pub(crate) released: Option<u64>,
}

/// A message as it is stored.
#[derive(Clone, Debug)]
pub(crate) struct MessageRow {
    pub(crate) message: Arc<Message>,
    pub(crate) owner: Option<Arc<str>>,
}

/// The last state of one row.
#[derive(Clone, Debug)]
pub(crate) enum Change<R> {
    /// It is written; `fresh` if no earlier commit may have written it.
    Put { row: R, fresh: bool },
    /// It is removed.
    Gone,
}

/// Rows that are written, with their keys.
pub(crate) type Rows<'a, K, R> = Vec<(&'a K, &'a R)>;

/// Rows of one table by key.
/// Keys are the service's own, so no hash of them has to be hard to guess.
#[derive(Debug)]
pub(crate) struct Table<K, R>(HashMap<K, Change<R>, RandomState>);

impl<K, R> Default for Table<K, R> {
    fn default() -> Self {
        Self(HashMap::default())
    }
}

impl<K: Eq + Hash + Copy, R> Table<K, R> {
    /// `known` says whether an earlier commit may have written the row.
    fn put(&mut self, key: K, row: R, known: bool) {
        let fresh = match self.0.get(&key) {
            None => !known,
            Some(Change::Put { fresh, .. }) => *fresh,
            Some(Change::Gone) => false,
        };
        self.0.insert(key, Change::Put { row, fresh });
    }

    fn remove(&mut self, key: K) {
        match self.0.get(&key) {
            Some(Change::Put { fresh: true, .. }) => drop(self.0.remove(&key)),
            _ => drop(self.0.insert(key, Change::Gone)),
        }
    }

    fn get_mut(&mut self, key: K) -> Option<&mut R> {
        match self.0.get_mut(&key) {
            Some(Change::Put { row, .. }) => Some(row),
            _ => None,
        }
    }

    pub(crate) fn puts(&self) -> impl Iterator<Item = (&K, &R)> {
        self.0.iter().filter_map(|(key, change)| match change {
            Change::Put { row, .. } => Some((key, row)),
            Change::Gone => None,
        })
    }

    /// Rows that are written, those apart that no earlier commit may have written: (new, perhaps known).
    pub(crate) fn puts_apart(&self) -> (Rows<'_, K, R>, Rows<'_, K, R>) {
        let (mut new, mut known) = (Vec::new(), Vec::new());
        for (key, change) in &self.0 {
            if let Change::Put { row, fresh } = change {
                if *fresh { new.push((key, row)) } else { known.push((key, row)) }
            }
        }
        (new, known)
    }

    pub(crate) fn removals(&self) -> impl Iterator<Item = &K> {
        self.0.iter().filter_map(|(key, change)| matches!(change, Change::Gone).then_some(key))
    }

    pub(crate) fn len(&self) -> usize {
        self.0.len()
    }
}

/// What is stored of a subscription.
#[derive(Clone, Debug)]
pub struct SubscriptionRow {
    /// Which topics.
    pub filter: TopicFilter,
    /// How they are delivered.
    pub granted: Granted,
    /// Whether retained messages are still to be sent.
    pub retained_due: bool,
}

/// The first bytes of a filter's digest, by which a subscription is found.
pub(crate) type FilterKey = [u8; 16];

/// What one commit writes.
#[derive(Debug, Default)]
pub struct Changes {
    pub(crate) sessions: Table<SessionKey, SessionRow>,
    pub(crate) subscriptions: Table<(SessionKey, FilterKey), SubscriptionRow>,
    pub(crate) messages: Table<u64, MessageRow>,
    pub(crate) deliveries: Table<(SessionKey, u64), DeliveryRow>,
    pub(crate) received: Table<(SessionKey, PacketId), ()>,
    pub(crate) deeds: Vec<(Author, Deed, OffsetDateTime)>,
    /// What the deeds take, about, bytes.
    deed_bytes: usize,
}

/// Deeds that wait to be written, at most, and bytes of them. While the database is away somebody may go on doing things,
/// and one that clears retained messages names a hundred topics.
const DEEDS: (usize, usize) = (10_000, 16 * 1024 * 1024);

/// What a deed takes, about, bytes.
fn weight(deed: &Deed) -> usize {
    let values = [&deed.before, &deed.after].into_iter().flatten();
    256 + deed.name.len() + values.map(|value| value.to_string().len()).sum::<usize>()
}

impl Changes {
    /// Whether there is nothing to write.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Rows that are written or removed.
    pub fn len(&self) -> usize {
        self.sessions.len()
            + self.subscriptions.len()
            + self.messages.len()
            + self.deliveries.len()
            + self.received.len()
            + self.deeds.len()
    }

    /// Somebody did something at this time. Gives the deed back if too many wait already.
    pub fn note(&mut self, by: Author, deed: Deed, at: OffsetDateTime) -> Result<(), Box<Deed>> {
        let bytes = self.deed_bytes + weight(&deed);
        if self.deeds.len() >= DEEDS.0 || bytes > DEEDS.1 {
            return Err(Box::new(deed));
        }
        self.deed_bytes = bytes;
        self.deeds.push((by, deed, at));
        Ok(())
    }

    /// A session is as this says. Rows of sessions are few, so each is written.
    pub fn put_session(&mut self, key: SessionKey, row: SessionRow) {
        self.sessions.put(key, row, true);
    }

    /// A session is over; its subscriptions, deliveries and identifiers go with it, its messages don't.
    pub fn remove_session(&mut self, key: SessionKey) {
        self.sessions.0.insert(key, Change::Gone);
        self.subscriptions.0.retain(|(session, _), _| *session != key);
        self.deliveries.0.retain(|(session, _), _| *session != key);
        self.received.0.retain(|(session, _), _| *session != key);
    }

    /// A session subscribes, or has been sent the retained messages of a subscription.
    pub fn put_subscription(&mut self, session: SessionKey, row: SubscriptionRow) {
        self.subscriptions.put((session, filter_key(&row.filter)), row, true);
    }

    /// A session unsubscribes.
    pub fn remove_subscription(&mut self, session: SessionKey, filter: &TopicFilter) {
        self.subscriptions.remove((session, filter_key(filter)));
    }

    /// A message is kept. `number` is its own; it has an owner if it is the retained one of its topic; `known` says whether an earlier commit may have written it.
    pub fn put_message(&mut self, number: u64, message: &Arc<Message>, owner: Option<&Arc<str>>, known: bool) {
        self.messages.put(number, MessageRow { message: Arc::clone(message), owner: owner.cloned() }, known);
    }

    /// A message is kept no longer.
    pub fn remove_message(&mut self, number: u64) {
        self.messages.remove(number);
    }

    /// A message waits for a session.
    pub fn put_delivery(&mut self, session: SessionKey, delivery: Delivery) {
        let row = DeliveryRow { packet_id: None, released: None, delivery };
        self.deliveries.put((session, row.delivery.sequence), row, false);
    }

    /// It was, or is about to be, sent under a packet identifier.
    pub fn assign(&mut self, session: SessionKey, packet_id: PacketId, delivery: Delivery) {
        self.change_delivery(session, delivery, |row| row.packet_id = Some(packet_id));
    }

    /// The client has it, and PUBREL follows; `order` grows with each.
    pub fn release(&mut self, session: SessionKey, packet_id: PacketId, delivery: Delivery, order: u64) {
        self.change_delivery(session, delivery, |row| {
            row.packet_id = Some(packet_id);
            row.released = Some(order);
        });
    }

    fn change_delivery(&mut self, session: SessionKey, delivery: Delivery, change: impl FnOnce(&mut DeliveryRow)) {
        let key = (session, delivery.sequence);
        if let Some(row) = self.deliveries.get_mut(key) {
            return change(row);
        }
        let mut row = DeliveryRow { packet_id: None, released: None, delivery };
        change(&mut row);
        self.deliveries.put(key, row, true);
    }

    /// A delivery is done with.
    pub fn remove_delivery(&mut self, session: SessionKey, sequence: u64) {
        self.deliveries.remove((session, sequence));
    }

    /// A QoS 2 message of the session was received and not released.
    pub fn put_received(&mut self, session: SessionKey, packet_id: PacketId) {
        self.received.put((session, packet_id), (), false);
    }

    /// It is released.
    pub fn remove_received(&mut self, session: SessionKey, packet_id: PacketId) {
        self.received.remove((session, packet_id));
    }
}

fn filter_key(filter: &TopicFilter) -> FilterKey {
    use sha2::{Digest, Sha256};
    let digest = Sha256::digest(filter.as_bytes());
    let mut key = FilterKey::default();
    key.copy_from_slice(&digest[..16]);
    key
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may panic")]

    use moorfall_core::Time;
    use moorfall_wire::{PublishProperties, QoS};

    use super::*;

    const SESSION: SessionKey = SessionKey(1);

    fn delivery(sequence: u64) -> Delivery {
        let topic = "harrowmere/gorge".parse().unwrap();
        let properties = PublishProperties::default();
        let message =
            Message::new(topic, "1".into(), QoS::AtLeastOnce, false, properties, SessionKey(9), Time::default());
        Delivery { sequence, ..Delivery::new(Arc::new(message), QoS::AtLeastOnce, false) }
    }

    #[test]
    fn what_is_done_with_before_it_was_written_leaves_nothing() {
        let mut changes = Changes::default();
        let delivery = delivery(1);
        changes.put_message(1, &delivery.message, None, false);
        changes.put_delivery(SESSION, delivery.clone());
        changes.assign(SESSION, PacketId::MIN, delivery);
        changes.put_received(SESSION, PacketId::MAX);
        assert_eq!(changes.len(), 3);
        changes.remove_received(SESSION, PacketId::MAX);
        changes.remove_delivery(SESSION, 1);
        changes.remove_message(1);
        assert!(changes.is_empty());
    }

    #[test]
    fn deeds_that_wait_are_bounded_in_number_and_bytes() {
        let by = || Author { person: "wren".into(), address: "127.0.0.1".into() };
        let noted = |name: &str| {
            let mut changes = Changes::default();
            let deed = || Deed::new("clear", "retained", name);
            while changes.note(by(), deed(), OffsetDateTime::UNIX_EPOCH).is_ok() {}
            changes.len()
        };
        assert_eq!(noted("harrowmere/gorge"), DEEDS.0);
        assert!((15..=16).contains(&noted(&"x".repeat(1024 * 1024))));
    }

    #[test]
    fn what_is_new_is_told_from_what_may_be_known() {
        let mut changes = Changes::default();
        changes.put_delivery(SESSION, delivery(1));
        changes.assign(SESSION, PacketId::MIN, delivery(1));
        changes.assign(SESSION, PacketId::MAX, delivery(2));
        changes.remove_delivery(SESSION, 3);
        changes.put_delivery(SESSION, delivery(3));
        let (new, mut known) = changes.deliveries.puts_apart();
        known.sort_unstable_by_key(|(key, _)| **key);
        let places = |rows: Vec<(&(SessionKey, u64), _)>| rows.iter().map(|(key, _)| key.1).collect::<Vec<_>>();
        assert_eq!((places(new), places(known)), (vec![1], vec![2, 3]));
    }

    #[test]
    fn what_may_be_written_is_removed() {
        let mut changes = Changes::default();
        changes.remove_delivery(SESSION, 1);
        changes.put_delivery(SESSION, delivery(1));
        changes.remove_delivery(SESSION, 1);
        changes.assign(SESSION, PacketId::MIN, delivery(2));
        changes.remove_delivery(SESSION, 2);
        assert_eq!((changes.deliveries.removals().count(), changes.deliveries.puts().count()), (2, 0));
    }

    #[test]
    fn a_session_takes_its_rows_along_but_not_those_of_others() {
        let mut changes = Changes::default();
        changes.put_delivery(SESSION, delivery(1));
        changes.put_delivery(SessionKey(2), delivery(1));
        changes.remove_session(SESSION);
        assert_eq!(changes.deliveries.puts().map(|((session, _), _)| session.0).collect::<Vec<_>>(), [2]);
        assert_eq!(changes.sessions.removals().count(), 1);
    }
}
