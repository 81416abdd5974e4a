//! The queue of one session: messages routed to it and not sent yet.

use std::collections::VecDeque;

use crate::{Delivery, Limits, QueuePolicy};

/// What became of a push.
#[derive(Debug)]
#[must_use]
pub enum Pushed {
    /// It is queued.
    Queued {
        /// Whether the queue was empty before, so that its reader wants to be woken.
        first: bool,
        /// What was dropped to make room, oldest first.
        displaced: Vec<Delivery>,
    },
    /// The queue is at its bound and this message was dropped.
    Dropped {
        /// Whether the session is to end, as its queue's policy says.
        end: bool,
    },
}

/// A queue bounded by messages and by bytes. What happens at the bound is a policy; what is dropped is counted.
#[derive(Debug)]
pub struct Outbox {
    queue: VecDeque<Delivery>,
    bytes: usize,
    dropped: u64,
    max_messages: usize,
    max_bytes: usize,
    policy: QueuePolicy,
    next_sequence: u64,
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
            policy: limits.queue_policy,
            next_sequence: 1,
        }
    }

    /// A place in the queue of a session that outlives its connection; later ones are higher.
    pub fn next_sequence(&mut self) -> u64 {
        let sequence = self.next_sequence;
        self.next_sequence += 1;
        sequence
    }

    /// Queues a delivery; when the queue is full the policy decides.
    pub fn push(&mut self, delivery: Delivery) -> Pushed {
        let weight = delivery.message.weight();
        let mut displaced = Vec::new();
        while !self.has_room(weight) {
            self.dropped += 1;
            match self.policy {
                QueuePolicy::DropOldest if !self.queue.is_empty() => displaced.extend(self.pop()),
                policy => return Pushed::Dropped { end: policy == QueuePolicy::EndSession },
            }
        }
        let first = self.queue.is_empty();
        self.bytes += weight;
        self.queue.push_back(delivery);
        Pushed::Queued { first, displaced }
    }

    /// Puts deliveries back in front of all others, in their order, whatever the bound: they had been taken out.
    pub fn put_back(&mut self, deliveries: impl DoubleEndedIterator<Item = Delivery>) {
        for delivery in deliveries.rev() {
            self.next_sequence = self.next_sequence.max(delivery.sequence + 1);
            self.bytes += delivery.message.weight();
            self.queue.push_front(delivery);
        }
    }

    fn has_room(&self, weight: usize) -> bool {
        self.queue.len() < self.max_messages && self.bytes + weight <= self.max_bytes
    }

    fn pop(&mut self) -> Option<Delivery> {
        let delivery = self.queue.pop_front()?;
        self.bytes -= delivery.message.weight();
        Some(delivery)
    }

    /// Moves up to `most` deliveries from the front to the end of `into`.
    pub fn take(&mut self, most: usize, into: &mut VecDeque<Delivery>) {
        if self.queue.is_empty() {
            // The memory of an idle session is given back.
            if self.queue.capacity() > 64 {
                self.queue = VecDeque::new();
            }
            return;
        }
        if into.is_empty() && most >= self.queue.len() {
            std::mem::swap(&mut self.queue, into);
            self.bytes = 0;
            return;
        }
        for _ in 0..most.min(self.queue.len()) {
            into.extend(self.pop());
        }
    }

    /// Takes out the deliveries that `wanted` names, in their order; the rest stays as it is.
    pub fn take_if(&mut self, mut wanted: impl FnMut(&Delivery) -> bool) -> Vec<Delivery> {
        let (taken, kept): (Vec<_>, Vec<_>) = self.queue.drain(..).partition(|delivery| wanted(delivery));
        self.bytes = kept.iter().map(|delivery| delivery.message.weight()).sum();
        self.queue = kept.into();
        taken
    }

    /// Messages that wait.
    pub fn len(&self) -> usize {
        self.queue.len()
    }

    /// Whether nothing waits.
    pub fn is_empty(&self) -> bool {
        self.queue.is_empty()
    }

    /// Bytes of payload, topic and properties that wait.
    pub fn bytes(&self) -> usize {
        self.bytes
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
        Delivery::new(Arc::new(message), QoS::AtMostOnce, false)
    }

    fn outbox(queue_policy: QueuePolicy) -> Outbox {
        Outbox::new(&Limits { queue_messages: 2, queue_bytes: 12, queue_policy, ..Limits::default() })
    }

    fn sizes(outbox: &mut Outbox) -> Vec<usize> {
        let mut taken = VecDeque::new();
        outbox.take(10, &mut taken);
        taken.iter().map(|delivery| delivery.message.payload.len()).collect()
    }

    #[test]
    fn both_bounds_hold_and_drops_are_counted() {
        let mut outbox = outbox(QueuePolicy::DropNewest);
        assert!(matches!(outbox.push(delivery(b"12345")), Pushed::Queued { first: true, .. }));
        let over = outbox.push(delivery(b"12345"));
        assert!(matches!(over, Pushed::Dropped { end: false }), "14 bytes with topics and properties");
        assert!(matches!(outbox.push(delivery(b"1")), Pushed::Queued { first: false, .. }));
        assert!(matches!(outbox.push(delivery(b"")), Pushed::Dropped { .. }), "a third message");
        assert_eq!((outbox.len(), outbox.dropped()), (2, 2));
        assert_eq!(sizes(&mut outbox), [5, 1]);
        let again = outbox.push(delivery(b"1234567"));
        assert!(matches!(again, Pushed::Queued { first: true, .. }), "the bytes were given back");
    }

    #[test]
    fn the_oldest_make_room_when_the_policy_says_so() {
        let mut outbox = outbox(QueuePolicy::DropOldest);
        for payload in [&b"1"[..], b"12"] {
            assert!(matches!(outbox.push(delivery(payload)), Pushed::Queued { .. }));
        }
        let Pushed::Queued { displaced, .. } = outbox.push(delivery(b"1234567")) else { panic!("not queued") };
        assert_eq!(displaced.len(), 2, "by bytes");
        assert!(matches!(outbox.push(delivery(b"123456789012345")), Pushed::Dropped { .. }), "it could never fit");
        assert_eq!((outbox.len(), outbox.dropped()), (0, 4));
    }

    #[test]
    fn what_is_put_back_comes_first() {
        let mut outbox = outbox(QueuePolicy::DropNewest);
        assert!(matches!(outbox.push(delivery(b"1")), Pushed::Queued { .. }));
        outbox.put_back([delivery(b"22"), delivery(b"333")].into_iter());
        let taken = outbox.take_if(|delivery| delivery.message.payload.len() == 2);
        assert_eq!((taken.len(), outbox.bytes()), (1, 8));
        assert_eq!(sizes(&mut outbox), [3, 1]);
    }

    #[test]
    fn a_session_that_is_to_end_at_the_bound_says_so() {
        let mut outbox = outbox(QueuePolicy::EndSession);
        assert!(matches!(outbox.push(delivery(b"123456789012345")), Pushed::Dropped { end: true }));
    }
}
