//! The queue of one session: messages routed to it and not sent yet.

use std::collections::VecDeque;

use moorfall_wire::{QoS, TopicFilter};

use crate::{Delivery, Limits, Message, Part, QueuePolicy, Time};

/// What waits in a queue.
#[derive(Clone, Debug)]
pub enum Queued {
    /// One message.
    One(Delivery),
    /// Messages that follow each other. At least one is left.
    Part(Part),
}

impl Queued {
    /// How many messages.
    pub fn len(&self) -> usize {
        match self {
            Self::One(_) => 1,
            Self::Part(part) => part.len(),
        }
    }

    /// Whether there is no message.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// At which QoS they are sent.
    pub fn qos(&self) -> QoS {
        match self {
            Self::One(delivery) => delivery.qos,
            Self::Part(part) => part.qos,
        }
    }

    /// The shared subscription that they came by.
    pub fn shared(&self) -> Option<&TopicFilter> {
        match self {
            Self::One(delivery) => delivery.shared(),
            Self::Part(part) => part.shared(),
        }
    }

    /// The number under which the journey of what waits here is recorded; 0 if it is not.
    pub fn journey(&self) -> u64 {
        match self {
            Self::One(delivery) => delivery.message.journey(),
            Self::Part(part) => part.run().journey(),
        }
    }

    /// The first of them.
    pub fn message(&self) -> Option<&Message> {
        match self {
            Self::One(delivery) => Some(&delivery.message),
            Self::Part(part) => part.first().map(|first| &**first),
        }
    }

    /// When the first of them arrived.
    pub fn received(&self) -> Time {
        match self {
            Self::One(delivery) => delivery.message.received,
            Self::Part(part) => part.first().map_or_else(Time::default, |first| first.received),
        }
    }

    fn weight(&self) -> usize {
        match self {
            Self::One(delivery) => delivery.message.weight(),
            Self::Part(part) => part.weight(),
        }
    }
}

impl IntoIterator for Queued {
    type Item = Delivery;
    type IntoIter = std::iter::Chain<std::option::IntoIter<Delivery>, std::iter::Flatten<std::option::IntoIter<Part>>>;

    fn into_iter(self) -> Self::IntoIter {
        let (one, part) = match self {
            Self::One(delivery) => (Some(delivery), None),
            Self::Part(part) => (None, Some(part)),
        };
        one.into_iter().chain(part.into_iter().flatten())
    }
}

/// What became of a push.
#[derive(Debug, Default)]
#[must_use]
pub struct Pushed {
    /// Whether the queue was empty before and is not now, so that its reader wants to be woken.
    pub first: bool,
    /// What was dropped to make room, oldest first.
    pub displaced: Vec<Delivery>,
    /// How many of the messages themselves were dropped, because the queue is at its bound.
    pub dropped: usize,
    /// Whether the session is to end, as its queue's policy says.
    pub end: bool,
    /// Whether what was dropped would have fitted but for the ceiling.
    pub over_ceiling: bool,
}

/// A queue bounded by messages and by bytes. What happens at the bound is a policy; what is dropped is counted.
#[derive(Debug)]
pub struct Outbox {
    queue: VecDeque<Queued>,
    messages: usize,
    bytes: usize,
    dropped: u64,
    max_messages: usize,
    max_bytes: usize,
    /// What may wait now, if that is less: the room is shared with other sessions.
    ceiling: usize,
    policy: QueuePolicy,
    next_sequence: u64,
}

impl Outbox {
    /// Runs that may wait in the receive buffers of their publishers. Those behind them are copied: their reader is
    /// slow, and memory that only a few of its bytes are wanted of must not wait with them.
    const BORROWED: usize = 16;

    /// An empty queue with the bounds of `limits`.
    pub fn new(limits: &Limits) -> Self {
        Self {
            queue: VecDeque::new(),
            messages: 0,
            bytes: 0,
            dropped: 0,
            max_messages: limits.queue_messages,
            max_bytes: limits.queue_bytes,
            ceiling: usize::MAX,
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

    /// Places are higher than this one from now on: a message that is in flight has it.
    pub fn go_on_after(&mut self, sequence: u64) {
        self.next_sequence = self.next_sequence.max(sequence + 1);
    }

    /// The bounds are these from now on. What waits already stays.
    pub fn set_limits(&mut self, limits: &Limits) {
        (self.max_messages, self.max_bytes) = (limits.queue_messages, limits.queue_bytes);
        self.policy = limits.queue_policy;
    }

    /// When the first message was accepted.
    pub fn oldest(&self) -> Option<Time> {
        self.queue.front().map(Queued::received)
    }

    /// How much may wait now at most, if that is less than the queue's own bound, bytes.
    pub fn set_ceiling(&mut self, bytes: usize) {
        self.ceiling = bytes;
    }

    fn most_bytes(&self) -> usize {
        self.max_bytes.min(self.ceiling)
    }

    /// Queues a delivery; when the queue is full the policy decides.
    pub fn push(&mut self, delivery: Delivery) -> Pushed {
        let mut pushed = Pushed { first: self.queue.is_empty(), ..Pushed::default() };
        if self.make_room(delivery.message.weight(), &mut pushed) {
            self.append(Queued::One(delivery));
        }
        pushed.first &= !self.queue.is_empty();
        pushed
    }

    /// Queues the messages of a part, in their order; when there is not room for all of them the policy decides.
    pub fn push_part(&mut self, mut part: Part) -> Pushed {
        let mut pushed = Pushed { first: self.queue.is_empty(), ..Pushed::default() };
        while let Some(weight) = part.front_weight() {
            if !self.make_room(weight, &mut pushed) {
                part.advance(1);
                continue;
            }
            let room =
                part.fitting(self.most_bytes().saturating_sub(self.bytes)).min(self.max_messages - self.messages);
            let mut fitting = part.split_to(room);
            if self.queue.len() >= Self::BORROWED {
                fitting.put_at_rest();
            }
            self.append(Queued::Part(fitting));
        }
        pushed.first &= !self.queue.is_empty();
        pushed
    }

    /// Whether there is room for one more message of this weight, after what the policy does for it.
    fn make_room(&mut self, weight: usize, pushed: &mut Pushed) -> bool {
        while self.messages >= self.max_messages || self.bytes + weight > self.most_bytes() {
            self.dropped += 1;
            pushed.over_ceiling |= self.messages < self.max_messages && self.bytes + weight <= self.max_bytes;
            match self.policy {
                QueuePolicy::DropOldest if !self.queue.is_empty() => pushed.displaced.extend(self.pop()),
                policy => {
                    pushed.dropped += 1;
                    pushed.end |= policy == QueuePolicy::EndSession;
                    return false;
                }
            }
        }
        true
    }

    /// What the policy would do for a message of this weight; `None` if there is room for it.
    pub fn full(&self, weight: usize) -> Option<QueuePolicy> {
        let is_full = self.messages >= self.max_messages || self.bytes + weight > self.most_bytes();
        is_full.then_some(self.policy)
    }

    /// Puts what had been taken out back in front of all others, in its order, whatever the bound.
    pub fn put_back(&mut self, entries: impl DoubleEndedIterator<Item = Queued>) {
        for entry in entries.rev() {
            if let Queued::One(delivery) = &entry {
                self.go_on_after(delivery.sequence);
            }
            self.count(&entry);
            self.queue.push_front(entry);
        }
    }

    fn count(&mut self, entry: &Queued) {
        self.messages += entry.len();
        self.bytes += entry.weight();
    }

    fn append(&mut self, entry: Queued) {
        self.count(&entry);
        self.queue.push_back(entry);
    }

    /// Takes the oldest message.
    fn pop(&mut self) -> Option<Delivery> {
        let (delivery, over) = match self.queue.front_mut()? {
            Queued::One(_) => (None, true),
            Queued::Part(part) => (part.next(), part.is_empty()),
        };
        let front = if over { self.queue.pop_front() } else { None };
        let delivery = delivery.or(match front {
            Some(Queued::One(delivery)) => Some(delivery),
            _ => None,
        })?;
        self.messages -= 1;
        self.bytes -= delivery.message.weight();
        Some(delivery)
    }

    /// Moves up to `most` messages from the front to the end of `into`.
    pub fn take(&mut self, most: usize, into: &mut VecDeque<Queued>) {
        if self.queue.is_empty() {
            // The memory of an idle session is given back.
            if self.queue.capacity() > 64 {
                self.queue = VecDeque::new();
            }
            return;
        }
        if into.is_empty() && most >= self.messages {
            std::mem::swap(&mut self.queue, into);
            (self.messages, self.bytes) = (0, 0);
            return;
        }
        let mut left = most;
        while left > 0
            && let Some(front) = self.queue.front_mut()
        {
            let entry = match front {
                Queued::Part(part) if part.len() > left => Queued::Part(part.split_to(left)),
                _ => match self.queue.pop_front() {
                    Some(entry) => entry,
                    None => return,
                },
            };
            left -= entry.len();
            self.messages -= entry.len();
            self.bytes -= entry.weight();
            into.push_back(entry);
        }
    }

    /// Takes out the entries that `wanted` names, in their order; the rest stays as it is.
    pub fn take_if(&mut self, mut wanted: impl FnMut(&Queued) -> bool) -> Vec<Queued> {
        let (taken, kept): (Vec<_>, Vec<_>) = self.queue.drain(..).partition(|entry| wanted(entry));
        (self.messages, self.bytes) = (0, 0);
        kept.into_iter().for_each(|entry| self.append(entry));
        taken
    }

    /// Messages that wait.
    pub fn len(&self) -> usize {
        self.messages
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
    use crate::{Message, Run, SessionKey, Time};

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
        taken.into_iter().flatten().map(|delivery| delivery.message.payload.len()).collect()
    }

    #[test]
    fn both_bounds_hold_and_drops_are_counted() {
        let mut outbox = outbox(QueuePolicy::DropNewest);
        assert!(outbox.push(delivery(b"12345")).first);
        let over = outbox.push(delivery(b"12345"));
        assert_eq!((over.dropped, over.end, over.first), (1, false, false), "14 bytes with topics and properties");
        let second = outbox.push(delivery(b"1"));
        assert_eq!((second.dropped, second.first), (0, false));
        assert_eq!(outbox.push(delivery(b"")).dropped, 1, "a third message");
        assert_eq!((outbox.len(), outbox.dropped()), (2, 2));
        assert_eq!(sizes(&mut outbox), [5, 1]);
        let again = outbox.push(delivery(b"1234567"));
        assert!(again.first, "the bytes were given back");
    }

    #[test]
    fn the_oldest_make_room_when_the_policy_says_so() {
        let mut outbox = outbox(QueuePolicy::DropOldest);
        for payload in [&b"1"[..], b"12"] {
            assert_eq!(outbox.push(delivery(payload)).dropped, 0);
        }
        let pushed = outbox.push(delivery(b"1234567"));
        assert_eq!((pushed.displaced.len(), pushed.dropped), (2, 0), "by bytes");
        assert_eq!(outbox.push(delivery(b"123456789012345")).dropped, 1, "it could never fit");
        assert_eq!((outbox.len(), outbox.dropped()), (0, 4));
    }

    #[test]
    fn what_is_put_back_comes_first() {
        let mut outbox = outbox(QueuePolicy::DropNewest);
        assert!(outbox.push(delivery(b"1")).first);
        outbox.put_back([delivery(b"22"), delivery(b"333")].map(Queued::One).into_iter());
        let taken = outbox.take_if(|entry| entry.weight() == 4);
        assert_eq!((taken.len(), outbox.bytes()), (1, 8));
        assert_eq!(sizes(&mut outbox), [3, 1]);
    }

    #[test]
    fn a_session_that_is_to_end_at_the_bound_says_so() {
        let mut outbox = outbox(QueuePolicy::EndSession);
        assert!(outbox.push(delivery(b"123456789012345")).end);
    }

    fn part(payloads: &[&'static [u8]]) -> Part {
        let run = Run::new(payloads.iter().map(|payload| delivery(payload).message));
        Part::new(Arc::new(run), QoS::AtMostOnce, None)
    }

    #[test]
    fn of_a_part_is_queued_what_has_room() {
        let mut outbox = outbox(QueuePolicy::DropNewest);
        let pushed = outbox.push_part(part(&[b"1", b"123456789012", b"12345", b"1"]));
        assert_eq!((pushed.first, pushed.dropped, pushed.displaced.len()), (true, 2, 0));
        assert_eq!((outbox.len(), outbox.bytes(), outbox.dropped()), (2, 10, 2));
        let mut taken = VecDeque::new();
        outbox.take(1, &mut taken);
        assert_eq!((taken.len(), outbox.len(), outbox.bytes()), (1, 1, 7));
        assert_eq!(sizes(&mut outbox), [5]);
    }

    #[test]
    fn a_part_makes_room_for_itself_when_the_policy_says_so() {
        let mut outbox = outbox(QueuePolicy::DropOldest);
        let pushed = outbox.push_part(part(&[b"1", b"12", b"123", b"1234"]));
        let displaced: Vec<_> = pushed.displaced.iter().map(|delivery| delivery.message.payload.len()).collect();
        assert_eq!((displaced, pushed.dropped), (vec![1, 2], 0));
        assert_eq!(outbox.bytes(), 11);
        assert_eq!(sizes(&mut outbox), [3, 4]);
    }

    #[test]
    fn what_waits_long_does_not_borrow() {
        let limits = Limits { queue_messages: 100, queue_bytes: 10_000, ..Limits::default() };
        let mut outbox = Outbox::new(&limits);
        for _ in 0..20 {
            assert_eq!(outbox.push_part(part(&[b"12345", b"1"])).dropped, 0);
        }
        let mut taken = VecDeque::new();
        outbox.take(31, &mut taken);
        outbox.take(100, &mut taken);
        assert_eq!(taken.iter().map(Queued::len).collect::<Vec<_>>()[14..18], [2, 1, 1, 2]);
        // The test's payloads are static: what was copied has another address.
        let address = delivery(b"12345").message.payload.as_ptr();
        let borrowed = |entry: &Queued| entry.clone().into_iter().next().unwrap().message.payload.as_ptr() == address;
        assert_eq!((borrowed(&taken[14]), borrowed(&taken[20])), (true, false));
    }

    #[test]
    fn what_others_hold_of_a_share_is_no_room() {
        let mut outbox = Outbox::new(&Limits::default());
        let weight = delivery(b"12345").message.weight();
        outbox.set_ceiling(weight);
        assert_eq!(outbox.push(delivery(b"12345")).dropped, 0);
        let pushed = outbox.push(delivery(b"12345"));
        assert!(pushed.dropped == 1 && pushed.over_ceiling && outbox.full(1).is_some());
        outbox.set_ceiling(0);
        assert_eq!(outbox.push(delivery(b"")).dropped, 1, "even below what it holds");
        let mut outbox = Outbox::new(&Limits { queue_policy: QueuePolicy::DropOldest, ..Limits::default() });
        outbox.set_ceiling(weight);
        let _first = outbox.push(delivery(b"12345"));
        let pushed = outbox.push(delivery(b"54321"));
        assert_eq!((pushed.displaced.len(), pushed.dropped, outbox.len()), (1, 0, 1));
    }
}
