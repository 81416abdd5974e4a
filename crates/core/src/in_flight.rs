//! Packet identifiers in use, each with what waits for its acknowledgement (§2.2.1, §4.4).

use std::{collections::VecDeque, num::NonZeroU64};

use moorfall_wire::PacketId;

/// Identifiers that there are.
const IDS: u16 = u16::MAX;

/// What was sent and not acknowledged yet, in the order in which it has to be sent again.
///
/// Identifiers are given one after the other and acknowledged in about that order, so those in use lie close together:
/// a ring over them, from the oldest, is found into without hashing.
#[derive(Clone, Debug)]
pub(crate) struct InFlight<T> {
    ring: VecDeque<Option<Entry<T>>>,
    /// The identifier of the ring's first place.
    first: PacketId,
    last: PacketId,
    count: usize,
    next_order: NonZeroU64,
}

#[derive(Clone, Debug)]
struct Entry<T> {
    /// Never 0, so that a place that is free takes no more room.
    order: NonZeroU64,
    what: T,
}

impl<T> Default for InFlight<T> {
    fn default() -> Self {
        Self { ring: VecDeque::new(), first: PacketId::MIN, last: PacketId::MAX, count: 0, next_order: NonZeroU64::MIN }
    }
}

impl<T> InFlight<T> {
    /// A ring that is wider than this and mostly empty is filled up before it grows: the oldest message of a client
    /// that never acknowledges it must not make the ring as wide as it can be.
    const WIDE: usize = 1_024;

    pub(crate) fn len(&self) -> usize {
        self.count
    }

    /// Identifiers that are free.
    pub(crate) fn left(&self) -> usize {
        usize::from(IDS) - self.count
    }

    /// Whether all identifiers are in use.
    pub(crate) fn is_full(&self) -> bool {
        self.count >= usize::from(IDS)
    }

    /// Where an identifier has its place, counted from the first; zero is left out ([MQTT-2.2.1-3]).
    fn place(&self, id: PacketId) -> usize {
        let (id, first) = (u32::from(id.get()), u32::from(self.first.get()));
        // Below 65,535.
        ((id + u32::from(IDS) - first) % u32::from(IDS)) as usize
    }

    /// The next free identifier. There must be one.
    pub(crate) fn next_id(&self) -> PacketId {
        let wide = self.ring.len() >= Self::WIDE.max(4 * self.count);
        let mut id = if wide { self.first } else { self.last };
        loop {
            id = id.checked_add(1).unwrap_or(PacketId::MIN);
            if self.get(id).is_none() {
                return id;
            }
        }
    }

    /// Takes the next free identifier for `what`; `None` when all are in use.
    pub(crate) fn insert(&mut self, what: T) -> Option<PacketId> {
        if self.is_full() {
            return None;
        }
        let id = self.next_id();
        self.insert_at(id, what);
        Some(id)
    }

    /// Puts `what` behind all others under an identifier that is known to be free, as when state is loaded.
    pub(crate) fn insert_at(&mut self, id: PacketId, what: T) {
        if self.ring.is_empty() {
            self.first = id;
        }
        let place = self.place(id);
        while self.ring.len() <= place {
            self.ring.push_back(None);
        }
        let order = self.next_in_order();
        self.ring[place] = Some(Entry { order, what });
        self.count += 1;
        self.last = id;
    }

    fn next_in_order(&mut self) -> NonZeroU64 {
        let order = self.next_order;
        self.next_order = order.saturating_add(1);
        order
    }

    /// What waits under the identifier.
    pub(crate) fn get(&self, id: PacketId) -> Option<&T> {
        self.ring.get(self.place(id))?.as_ref().map(|entry| &entry.what)
    }

    pub(crate) fn get_mut(&mut self, id: PacketId) -> Option<&mut T> {
        let place = self.place(id);
        self.ring.get_mut(place)?.as_mut().map(|entry| &mut entry.what)
    }

    /// Moves an entry behind all others: a PUBREL is sent again in the order in which PUBRECs came.
    pub(crate) fn move_back(&mut self, id: PacketId) {
        let (place, order) = (self.place(id), self.next_in_order());
        if let Some(Some(entry)) = self.ring.get_mut(place) {
            entry.order = order;
        }
    }

    /// Frees the identifier; `None` if it was not in use.
    pub(crate) fn remove(&mut self, id: PacketId) -> Option<T> {
        self.remove_if(id, |_| true)
    }

    /// The same if what waits is as wanted.
    pub(crate) fn remove_if(&mut self, id: PacketId, is_wanted: impl FnOnce(&T) -> bool) -> Option<T> {
        let place = self.place(id);
        let entry = self.ring.get_mut(place)?.take_if(|entry| is_wanted(&entry.what))?;
        self.count -= 1;
        if self.count == 0 {
            self.ring.clear();
            if self.ring.capacity() > 64 {
                // The memory of an idle session is given back.
                self.ring = VecDeque::new();
            }
        }
        while let Some(None) = self.ring.front() {
            self.ring.pop_front();
            self.first = self.first.checked_add(1).unwrap_or(PacketId::MIN);
        }
        Some(entry.what)
    }

    fn entries(&self) -> impl Iterator<Item = (PacketId, &Entry<T>)> {
        let id = |place: usize| {
            let number = (usize::from(self.first.get()) - 1 + place) % usize::from(IDS) + 1;
            u16::try_from(number).ok().and_then(PacketId::new)
        };
        self.ring.iter().enumerate().filter_map(move |(place, entry)| Some((id(place)?, entry.as_ref()?)))
    }

    /// All identifiers, in order.
    pub(crate) fn ids(&self) -> Vec<PacketId> {
        let mut ids: Vec<_> = self.entries().map(|(id, entry)| (entry.order, id)).collect();
        ids.sort_unstable();
        ids.into_iter().map(|(_, id)| id).collect()
    }

    /// Everything that waits, in order.
    pub(crate) fn into_ordered(mut self) -> Vec<(PacketId, T)> {
        let ids = self.ids();
        ids.into_iter().filter_map(|id| Some((id, self.remove(id)?))).collect()
    }
}

/// How many more messages the peer takes without acknowledging (§4.9): its receive maximum at the start of the
/// connection, one less for each PUBLISH at QoS 1 or 2, one more for each that is done with. What an earlier connection left
/// takes its part when it is its turn to be sent again, also if only PUBREL is sent, or it is done with by then: otherwise
/// its end would give back what it had not taken, and more than the maximum would be sent ([MQTT-3.3.4-9]).
#[derive(Clone, Copy, Debug)]
pub(crate) struct Quota {
    /// Less than nothing while something is done with before it was its turn.
    taken: i32,
    maximum: u16,
}

impl Quota {
    /// A quota of zero is taken as one.
    pub(crate) fn new(maximum: u16) -> Self {
        let maximum = maximum.max(1);
        Self { taken: 0, maximum }
    }

    /// Never beyond the maximum.
    pub(crate) fn left(self) -> usize {
        let maximum = i32::from(self.maximum);
        usize::try_from((maximum - self.taken).min(maximum)).unwrap_or(0)
    }

    pub(crate) fn has_room(self) -> bool {
        self.left() > 0
    }

    pub(crate) fn take(&mut self) {
        self.taken += 1;
    }

    pub(crate) fn give_back(&mut self) {
        self.taken -= 1;
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
    fn one_that_is_never_acknowledged_does_not_make_the_ring_wide() {
        let mut in_flight = InFlight::default();
        let stuck = in_flight.insert('s').unwrap();
        let mut used = std::collections::HashSet::new();
        for _ in 0..200_000 {
            let id = in_flight.insert('b').unwrap();
            used.insert(id);
            assert_eq!((in_flight.remove(id), in_flight.get(stuck)), (Some('b'), Some(&'s')));
        }
        assert!(in_flight.ring.len() <= InFlight::<char>::WIDE + 1, "{}", in_flight.ring.len());
        assert!(used.len() > 1_000, "identifiers are not reused at once");
        assert_eq!(in_flight.remove(stuck), Some('s'));
        assert!(in_flight.ring.is_empty());
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
        assert_eq!(quota.left(), 2);
        quota.take();
        assert_eq!(quota.left(), 2, "it was its turn, and it was done with before");
        quota.take();
        quota.take();
        assert!(!quota.has_room());
        quota.take();
        quota.give_back();
        assert!(!quota.has_room(), "one more was left by an earlier connection than is taken now");
        quota.give_back();
        assert!(quota.has_room());
    }
}
