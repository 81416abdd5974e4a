//! The queue of one session: messages routed to it and not sent yet.

use std::collections::VecDeque;

use crate::{Delivery, Limits};

/// What became of a push.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Pushed {
    /// It is queued; the queue was empty before, so its reader wants to be woken.
    First,
    /// It is queued behind others.
    Queued,
    /// The queue is at its bound: the newest message is dropped and counted.
    Dropped,
}

/// A queue bounded by messages and by bytes. At the bound the newest message is dropped and counted.
#[derive(Debug)]
pub struct Outbox {
    queue: VecDeque<Delivery>,
    bytes: usize,
    dropped: u64,
    max_messages: usize,
    max_bytes: usize,
}

impl Outbox {
    /// An empty queue with the bounds of `limits`.
    pub fn new(limits: &Limits) -> Self {
        Self {
            queue: VecDeque::new(),
            bytes: 0,
            dropped: 0,
            max_messages: limits.queue_messages,
            max_bytes: limits.queue_bytes,
        }
    }

    /// Queues a delivery, or drops it when the queue is full.
    pub fn push(&mut self, delivery: Delivery) -> Pushed {
        let weight = delivery.message.weight();
        if self.queue.len() >= self.max_messages || self.bytes + weight > self.max_bytes {
            self.dropped += 1;
            return Pushed::Dropped;
        }
        self.bytes += weight;
        self.queue.push_back(delivery);
        if self.queue.len() == 1 { Pushed::First } else { Pushed::Queued }
    }

    /// Moves up to `most` deliveries from the front to the end of `into`.
    pub fn take(&mut self, most: usize, into: &mut VecDeque<Delivery>) {
        let count = most.min(self.queue.len());
        for delivery in self.queue.drain(..count) {
            self.bytes -= delivery.message.weight();
            into.push_back(delivery);
        }
        if self.queue.is_empty() && self.queue.capacity() > 64 {
            self.queue = VecDeque::new();
        }
    }

    /// Messages that wait.
    pub fn len(&self) -> usize {
        self.queue.len()
    }

    /// Whether nothing waits.
    pub fn is_empty(&self) -> bool {
        self.queue.is_empty()
    }

    /// Messages dropped at the bound so far.
    pub fn dropped(&self) -> u64 {
        self.dropped
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use moorfall_wire::{PublishProperties, QoS};

    use super::*;
    use crate::{Message, SessionKey, Time};

    fn delivery(payload: &'static [u8]) -> Delivery {
        let message = Message::new(
            "t".parse().unwrap(),
            payload.into(),
            QoS::AtMostOnce,
            false,
            PublishProperties::default(),
            SessionKey(1),
            Time::default(),
        );
        Delivery { message: Arc::new(message), qos: QoS::AtMostOnce, retain: false }
    }

    #[test]
    fn both_bounds_hold_and_drops_are_counted() {
        let limits = Limits { queue_messages: 2, queue_bytes: 12, ..Limits::default() };
        let mut outbox = Outbox::new(&limits);
        assert_eq!(outbox.push(delivery(b"12345")), Pushed::First);
        assert_eq!(outbox.push(delivery(b"12345")), Pushed::Dropped, "14 bytes with topics and properties");
        assert_eq!(outbox.push(delivery(b"1")), Pushed::Queued);
        assert_eq!(outbox.push(delivery(b"")), Pushed::Dropped, "a third message");
        assert_eq!((outbox.len(), outbox.dropped()), (2, 2));
        let mut taken = VecDeque::new();
        outbox.take(10, &mut taken);
        assert_eq!(taken.iter().map(|d| d.message.payload.len()).collect::<Vec<_>>(), [5, 1]);
        assert_eq!(outbox.push(delivery(b"1234567")), Pushed::First, "the bytes were given back");
    }
}
