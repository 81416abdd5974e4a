//! QoS 1 messages that were sent and not acknowledged yet (§4.4, §4.9).

use std::collections::HashMap;

use moorfall_wire::PacketId;

/// Packet identifiers in use, each with what waits for its acknowledgement, bounded by a window.
#[derive(Debug)]
pub(crate) struct InFlight<T> {
    waiting: HashMap<PacketId, T, foldhash::fast::RandomState>,
    window: u16,
    last: PacketId,
}

impl<T> InFlight<T> {
    /// At most `window` at a time; a window of zero is taken as one.
    pub(crate) fn new(window: u16) -> Self {
        Self { waiting: HashMap::default(), window: window.max(1), last: PacketId::MAX }
    }

    pub(crate) fn len(&self) -> usize {
        self.waiting.len()
    }

    pub(crate) fn has_room(&self) -> bool {
        self.waiting.len() < usize::from(self.window)
    }

    /// Takes the next free identifier for `what`. The window is below 65,535, so one is free while there is room.
    pub(crate) fn insert(&mut self, what: T) -> Option<PacketId> {
        if !self.has_room() {
            return None;
        }
        let mut id = self.last;
        loop {
            id = id.checked_add(1).unwrap_or(PacketId::MIN);
            if !self.waiting.contains_key(&id) {
                break;
            }
        }
        self.last = id;
        self.waiting.insert(id, what);
        Some(id)
    }

    /// What waits under the identifier.
    pub(crate) fn get(&self, id: PacketId) -> Option<&T> {
        self.waiting.get(&id)
    }

    /// Frees the identifier; `None` if it was not in use.
    pub(crate) fn remove(&mut self, id: PacketId) -> Option<T> {
        self.waiting.remove(&id)
    }

    /// Everything that still waits.
    pub(crate) fn drain(&mut self) -> impl Iterator<Item = (PacketId, T)> + '_ {
        self.waiting.drain()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn identifiers_are_reused_only_when_they_are_free() {
        let mut in_flight = InFlight::new(3);
        let first = in_flight.insert('a').unwrap();
        assert_eq!(first.get(), 1);
        for _ in 0..70_000 {
            let id = in_flight.insert('b').unwrap();
            assert_ne!(id, first);
            assert_eq!(in_flight.remove(id), Some('b'));
        }
        in_flight.insert('c').unwrap();
        in_flight.insert('d').unwrap();
        assert_eq!(in_flight.insert('e'), None, "the window is full");
        assert_eq!(in_flight.remove(first), Some('a'));
        assert_eq!(in_flight.remove(first), None);
        assert!(in_flight.has_room());
    }
}
