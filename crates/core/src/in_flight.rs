//! Packet identifiers in use, each with what waits for its acknowledgement (§2.2.1, §4.4).

use std::collections::HashMap;

use foldhash::fast::RandomState;
use moorfall_wire::PacketId;

/// What was sent and not acknowledged yet, in the order in which it has to be sent again.
#[derive(Clone, Debug)]
pub(crate) struct InFlight<T> {
    waiting: HashMap<PacketId, Entry<T>, RandomState>,
    last: PacketId,
    next_order: u64,
}

#[derive(Clone, Debug)]
struct Entry<T> {
    order: u64,
    what: T,
}

impl<T> Default for InFlight<T> {
    fn default() -> Self {
        Self { waiting: HashMap::default(), last: PacketId::MAX, next_order: 0 }
    }
}

impl<T> InFlight<T> {
    pub(crate) fn len(&self) -> usize {
        self.waiting.len()
    }

    /// Takes the next free identifier for `what`; `None` when all 65,535 are in use.
    pub(crate) fn insert(&mut self, what: T) -> Option<PacketId> {
        if self.waiting.len() >= usize::from(u16::MAX) {
            return None;
        }
        let mut id = self.last;
        loop {
            id = id.checked_add(1).unwrap_or(PacketId::MIN);
            if !self.waiting.contains_key(&id) {
                break;
            }
        }
        self.insert_at(id, what);
        Some(id)
    }

    /// Puts `what` behind all others under an identifier that is known to be free, as when state is loaded.
    pub(crate) fn insert_at(&mut self, id: PacketId, what: T) {
        self.last = id;
        self.waiting.insert(id, Entry { order: self.next_order, what });
        self.next_order += 1;
    }

    /// What waits under the identifier.
    pub(crate) fn get(&self, id: PacketId) -> Option<&T> {
        self.waiting.get(&id).map(|entry| &entry.what)
    }

    pub(crate) fn get_mut(&mut self, id: PacketId) -> Option<&mut T> {
        self.waiting.get_mut(&id).map(|entry| &mut entry.what)
    }

    /// Moves an entry behind all others: a PUBREL is sent again in the order in which PUBRECs came.
    pub(crate) fn move_back(&mut self, id: PacketId) {
        if let Some(entry) = self.waiting.get_mut(&id) {
            entry.order = self.next_order;
            self.next_order += 1;
        }
    }

    /// Frees the identifier; `None` if it was not in use.
    pub(crate) fn remove(&mut self, id: PacketId) -> Option<T> {
        let entry = self.waiting.remove(&id)?;
        if self.waiting.is_empty() && self.waiting.capacity() > 64 {
            // The memory of an idle session is given back.
            self.waiting = HashMap::default();
        }
        Some(entry.what)
    }

    /// All identifiers, in order.
    pub(crate) fn ids(&self) -> Vec<PacketId> {
        let mut ids: Vec<_> = self.waiting.iter().map(|(id, entry)| (entry.order, *id)).collect();
        ids.sort_unstable();
        ids.into_iter().map(|(_, id)| id).collect()
    }

    /// Everything that waits, in order.
    pub(crate) fn into_ordered(self) -> Vec<(PacketId, T)> {
        let mut entries: Vec<_> = self.waiting.into_iter().collect();
        entries.sort_unstable_by_key(|(_, entry)| entry.order);
        entries.into_iter().map(|(id, entry)| (id, entry.what)).collect()
    }
}

/// How many more messages the peer takes without acknowledging (§4.9): its receive maximum at the start of the
/// connection, one less for each PUBLISH at QoS 1 or 2, one more for each that is done with.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Quota {
    left: u16,
    maximum: u16,
}

impl Quota {
    /// A quota of zero is taken as one.
    pub(crate) fn new(maximum: u16) -> Self {
        let maximum = maximum.max(1);
        Self { left: maximum, maximum }
    }

    pub(crate) fn has_room(self) -> bool {
        self.left > 0
    }

    pub(crate) fn take(&mut self) {
        self.left = self.left.saturating_sub(1);
    }

    /// Never beyond the maximum: what is acknowledged may have been sent on an earlier connection.
    pub(crate) fn give_back(&mut self) {
        self.left = self.maximum.min(self.left + 1);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn identifiers_are_reused_only_when_they_are_free() {
        let mut in_flight = InFlight::default();
        let first = in_flight.insert('a').unwrap();
        assert_eq!(first.get(), 1);
        for _ in 0..70_000 {
            let id = in_flight.insert('b').unwrap();
            assert_ne!(id, first);
            assert_eq!(in_flight.remove(id), Some('b'));
        }
        assert_eq!(in_flight.remove(first), Some('a'));
        assert_eq!(in_flight.remove(first), None);
        let all = (0..65_535).filter_map(|_| in_flight.insert('c')).count();
        assert_eq!((all, in_flight.insert('d')), (65_535, None), "every identifier is in use");
    }

    #[test]
    fn the_order_is_that_of_sending() {
        let mut in_flight = InFlight::default();
        let ids: Vec<_> = "abcd".chars().map(|what| in_flight.insert(what).unwrap()).collect();
        in_flight.remove(ids[1]);
        in_flight.move_back(ids[0]);
        assert_eq!(in_flight.ids(), [ids[2], ids[3], ids[0]]);
        let order: String = in_flight.into_ordered().into_iter().map(|(_, what)| what).collect();
        assert_eq!(order, "cda");
    }

    #[test]
    fn the_quota_never_grows_beyond_its_maximum() {
        let mut quota = Quota::new(2);
        quota.give_back();
        quota.take();
        quota.take();
        assert!(!quota.has_room());
        quota.give_back();
        assert!(quota.has_room());
    }
}
