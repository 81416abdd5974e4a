//! The queue of one session: messages routed to it and not sent yet.

use std::{collections::VecDeque, sync::Arc};

use crate::{
    Delivery, Filed, Left, Limits, LiveTraffic, Page, Part, QueuePolicy, Queued, Shelved, Time, queued::OVERHEAD,
    shelf::Shelf,
};

/// What became of a push.
#[derive(Debug, Default)]
#[must_use]
pub struct Pushed {
    /// Whether nothing could be taken before and something can be now, so that its reader wants to be woken.
    pub first: bool,
    /// What was dropped to make room, oldest first.
    pub displaced: Vec<Left>,
    /// How many of the messages themselves were dropped, because the queue is at its bound.
    pub dropped: usize,
    /// Whether the session is to end, as its queue's policy says.
    pub end: bool,
    /// Whether what was dropped would have fitted but for the ceiling.
    pub over_ceiling: bool,
}

/// A queue bounded by messages and by bytes. What happens at the bound is a policy; what is dropped is counted.
///
/// It is in three pieces: what is sent next is in memory; of what is far behind it, and kept in the database anyway, only
/// the places are known, and it is read again when its time comes; and the newest ones are in memory for a moment, for
/// as long as the broker is still busy with them. A queue that is short has the first piece only.
#[derive(Debug)]
pub struct Outbox {
    front: VecDeque<Queued>,
    shelf: Shelf,
    rear: VecDeque<Queued>,
    /// Messages in all three.
    messages: usize,
    /// Bytes of payload, topic and properties of all three.
    bytes: usize,
    /// What the first piece takes in memory, about, bytes.
    at_hand: usize,
    /// What it may take, for a session whose client is connected; it has a part of it while its client is away.
    max_at_hand: usize,
    is_away: bool,
    /// Whether somebody is reading a page of it.
    is_read: bool,
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

    /// Of what may be in memory while the client is connected, a session has so small a part while it is away.
    const AWAY: usize = 32;

    /// So small a part of it is read at a time.
    const PAGE: usize = 4;

    /// The newest messages, which others may still be about to be handed; twice as many at most.
    const NEWEST: usize = 128;

    /// An empty queue with the bounds of `limits`.
    pub fn new(limits: &Limits) -> Self {
        let mut shelf = Shelf::default();
        shelf.tell_topics(limits.live_traffic == LiveTraffic::Beside);
        Self {
            front: VecDeque::new(),
            shelf,
            rear: VecDeque::new(),
            messages: 0,
            bytes: 0,
            at_hand: 0,
            max_at_hand: limits.queue_memory_bytes,
            is_away: false,
            is_read: false,
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
        self.max_at_hand = limits.queue_memory_bytes;
        self.policy = limits.queue_policy;
        self.shelf.tell_topics(limits.live_traffic == LiveTraffic::Beside);
    }

    /// When the first message was accepted.
    pub fn oldest(&self) -> Option<Time> {
        let first = [self.front.front(), self.rear.front()].into_iter().flatten().map(Queued::received);
        first.chain(self.shelf.front().map(|shelved| shelved.received)).min()
    }

    /// How much may wait now at most, if that is less than the queue's own bound, bytes.
    pub fn set_ceiling(&mut self, bytes: usize) {
        self.ceiling = bytes;
    }

    fn most_bytes(&self) -> usize {
        self.max_bytes.min(self.ceiling)
    }

    /// The client is connected from now on.
    pub fn attend(&mut self) {
        self.is_away = false;
    }

    /// The client is away from now on: most of what waits for it, and is in the database, is no longer in memory.
    /// Nobody may be about to hand any of these messages to one more session.
    pub fn leave(&mut self) {
        self.is_away = true;
        self.shelve_rear(0);
        let (mut stay, mut shelved) = (VecDeque::new(), Vec::new());
        while self.at_hand > self.most_at_hand()
            && let Some(entry) = self.front.pop_back()
        {
            self.at_hand -= entry.cost();
            match entry {
                Queued::One(delivery) if Shelf::takes(&delivery) => shelved.push(delivery),
                entry => stay.push_front(entry),
            }
        }
        self.shelf.merge(shelved);
        self.at_hand += stay.iter().map(Queued::cost).sum::<usize>();
        self.front.append(&mut stay);
    }

    fn most_at_hand(&self) -> usize {
        if self.is_away { self.max_at_hand / Self::AWAY } else { self.max_at_hand }
    }

    /// Whether something can be taken now.
    fn is_ready(&self) -> bool {
        !self.front.is_empty() || self.shelf.is_empty() && !self.rear.is_empty()
    }

    /// Queues a delivery; when the queue is full the policy decides. `filed` is called with it if it is queued and is to
    /// be kept in the database, before anybody can take it.
    pub fn push(&mut self, delivery: Delivery, filed: impl FnOnce(&Delivery)) -> Pushed {
        let was_ready = self.is_ready();
        let mut pushed = Pushed::default();
        if self.make_room(delivery.message.weight(), &mut pushed) {
            if delivery.sequence > 0 {
                filed(&delivery);
            }
            self.append(delivery);
        }
        pushed.first = !was_ready && self.is_ready();
        pushed
    }

    /// Queues the messages of a part, in their order; when there is not room for all of them the policy decides.
    pub fn push_part(&mut self, mut part: Part) -> Pushed {
        let was_ready = self.is_ready();
        let mut pushed = Pushed::default();
        while let Some(weight) = part.front_weight() {
            if !self.make_room(weight, &mut pushed) {
                part.advance(1);
                continue;
            }
            let room =
                part.fitting(self.most_bytes().saturating_sub(self.bytes)).min(self.max_messages - self.messages);
            let mut fitting = part.split_to(room);
            if self.front.len() >= Self::BORROWED {
                fitting.put_at_rest();
            }
            let entry = Queued::Part(fitting);
            self.count(&entry);
            self.put_at_hand(entry);
        }
        pushed.first = !was_ready && self.is_ready();
        pushed
    }

    /// Whether there is room for one more message of this weight, after what the policy does for it.
    fn make_room(&mut self, weight: usize, pushed: &mut Pushed) -> bool {
        while self.messages >= self.max_messages || self.bytes + weight > self.most_bytes() {
            self.dropped += 1;
            pushed.over_ceiling |= self.messages < self.max_messages && self.bytes + weight <= self.max_bytes;
            match self.policy {
                QueuePolicy::DropOldest if self.messages > 0 => pushed.displaced.extend(self.pop()),
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
            self.at_hand += entry.cost();
            self.front.push_front(entry);
        }
    }

    /// Puts what was found in the database behind all others, whatever the bound. `filed` is there unless the message is this
    /// session's alone.
    pub fn put_stored(&mut self, stored: Shelved, filed: Option<Arc<Filed>>) {
        self.go_on_after(stored.sequence);
        self.messages += 1;
        self.bytes += stored.weight();
        self.shelf.push_stored(stored, filed);
    }

    fn count(&mut self, entry: &Queued) {
        self.messages += entry.len();
        self.bytes += entry.weight();
    }

    fn put_at_hand(&mut self, entry: Queued) {
        self.at_hand += entry.cost();
        self.front.push_back(entry);
    }

    /// Puts a delivery behind those that it must not overtake.
    fn append(&mut self, delivery: Delivery) {
        self.messages += 1;
        self.bytes += delivery.message.weight();
        let is_behind = !self.shelf.is_empty() || !self.rear.is_empty();
        let has_room = self.at_hand < self.most_at_hand();
        let may_overtake = || {
            let topic = &delivery.message.topic;
            let is_newest = |entry: &Queued| entry.message().is_some_and(|message| message.topic == *topic);
            !self.shelf.may_have(topic) && !self.rear.iter().any(is_newest)
        };
        if !Shelf::takes(&delivery) || has_room && (!is_behind || may_overtake()) {
            return self.put_at_hand(Queued::One(delivery));
        }
        self.rear.push_back(Queued::One(delivery));
        if self.rear.len() > 2 * Self::NEWEST {
            self.shelve_rear(Self::NEWEST);
        }
    }

    /// Of the newest, so many stay in memory.
    fn shelve_rear(&mut self, stay: usize) {
        while self.rear.len() > stay {
            if let Some(Queued::One(delivery)) = self.rear.pop_front() {
                self.shelf.push_back(&delivery);
            }
        }
    }

    /// Takes the oldest message, which is not to be sent.
    fn pop(&mut self) -> Option<Left> {
        let at_hand = self.front.front().map(Queued::received);
        if self.shelf.front().is_some_and(|shelved| at_hand.is_none_or(|at_hand| shelved.received < at_hand)) {
            return self.pop_shelved();
        }
        self.move_up();
        let cost = self.front.front()?.cost();
        let (delivery, over) = match self.front.front_mut()? {
            Queued::One(_) => (None, true),
            Queued::Part(part) => (part.next(), part.is_empty()),
        };
        self.at_hand = self.at_hand + self.front.front()?.cost() - cost;
        let front = if over { self.front.pop_front() } else { None };
        if let Some(front) = &front {
            self.at_hand -= front.cost();
        }
        let delivery = delivery.or(match front {
            Some(Queued::One(delivery)) => Some(delivery),
            _ => None,
        })?;
        self.messages -= 1;
        self.bytes -= delivery.message.weight();
        Some((&delivery).into())
    }

    /// When all before them are gone, the newest ones are next.
    fn move_up(&mut self) {
        if self.front.is_empty() && self.shelf.is_empty() && !self.rear.is_empty() {
            std::mem::swap(&mut self.front, &mut self.rear);
            self.at_hand = self.front.iter().map(Queued::cost).sum();
        }
    }

    /// Moves up to `most` messages from the front to the end of `into`. There may be more that have to be read first.
    pub fn take(&mut self, most: usize, into: &mut VecDeque<Queued>) {
        self.move_up();
        if self.front.is_empty() {
            // The memory of an idle session is given back.
            if self.front.capacity() > 64 {
                self.front = VecDeque::new();
            }
            return;
        }
        if into.is_empty() && most >= self.messages && self.shelf.is_empty() && self.rear.is_empty() {
            std::mem::swap(&mut self.front, into);
            (self.messages, self.bytes, self.at_hand) = (0, 0, 0);
            return;
        }
        let mut left = most;
        while left > 0
            && let Some(front) = self.front.front_mut()
        {
            let before = front.cost();
            let (entry, after) = match front {
                Queued::Part(part) if part.len() > left => {
                    let entry = Queued::Part(part.split_to(left));
                    (entry, front.cost())
                }
                _ => match self.front.pop_front() {
                    Some(entry) => (entry, 0),
                    None => return,
                },
            };
            left -= entry.len();
            self.messages -= entry.len();
            self.bytes -= entry.weight();
            self.at_hand -= before - after;
            into.push_back(entry);
        }
    }

    /// Takes out the entries in memory that `wanted` names, in their order; the rest stays as it is. What is kept and not
    /// any member's turn may be elsewhere.
    pub fn take_if(&mut self, mut wanted: impl FnMut(&Queued) -> bool) -> Vec<Queued> {
        let mut taken = Vec::new();
        for piece in [&mut self.front, &mut self.rear] {
            let (out, kept): (Vec<_>, Vec<_>) = piece.drain(..).partition(|entry| wanted(entry));
            *piece = kept.into();
            taken.extend(out);
        }
        self.messages -= taken.iter().map(Queued::len).sum::<usize>();
        self.bytes -= taken.iter().map(Queued::weight).sum::<usize>();
        self.at_hand = self.front.iter().map(Queued::cost).sum();
        taken
    }

    /// Takes out what was accepted before a time, so many messages at most: what is in front of the others in the piece
    /// where it is.
    pub fn take_older(&mut self, before: Time, most: usize) -> Vec<Left> {
        let mut taken = Vec::new();
        let is_older = |entry: &Queued| entry.received() < before;
        while taken.len() < most {
            self.move_up();
            let is_shelved = self.shelf.front().is_some_and(|shelved| shelved.received < before);
            if !is_shelved && !self.front.front().is_some_and(is_older) {
                break;
            }
            taken.extend(self.pop());
        }
        taken
    }

    fn pop_shelved(&mut self) -> Option<Left> {
        let (left, weight) = self.shelf.pop()?;
        self.messages -= 1;
        self.bytes -= weight;
        Some(left)
    }

    /// Takes all that is in memory, for a session that is over.
    pub fn take_at_hand(&mut self) -> VecDeque<Queued> {
        let mut all = std::mem::take(&mut self.front);
        all.append(&mut self.rear);
        self.messages = self.shelf.len();
        self.bytes -= all.iter().map(Queued::weight).sum::<usize>();
        self.at_hand = 0;
        all
    }

    /// Takes what is not in memory, so many at most, for a session that is over.
    pub fn take_shelved(&mut self, most: usize) -> Vec<Left> {
        std::iter::from_fn(|| self.pop_shelved()).take(most).collect()
    }

    /// What has to be read now for its reader to go on without waiting; it counts as being read from now on.
    pub fn page(&mut self) -> Option<Page> {
        let is_wanted = !self.is_read && !self.is_away && self.at_hand <= self.max_at_hand / Self::AWAY;
        if !is_wanted {
            return None;
        }
        let page = self.shelf.page(self.max_at_hand / Self::PAGE, |weight| weight + OVERHEAD)?;
        self.is_read = true;
        Some(page)
    }

    /// A page was read: its rows are next, in their order. Gives what the database did not have, which is lost. Without
    /// rows it could not be read, and may be asked for again.
    pub fn read(&mut self, page: Page, rows: Option<Vec<Delivery>>) -> Vec<Left> {
        self.is_read = false;
        // Its client may have gone meanwhile, and come back.
        let is_next = !self.is_away && self.shelf.front().is_some_and(|shelved| shelved.sequence >= page.first);
        let Some(rows) = rows.filter(|_| is_next) else { return Vec::new() };
        let mut lost = Vec::new();
        let mut weight = 0;
        let mut note = |left, bytes| {
            lost.push(left);
            weight += bytes;
        };
        for row in rows {
            if let Some(delivery) = self.shelf.read(row, &mut note) {
                let entry = Queued::One(delivery);
                self.at_hand += entry.cost();
                self.front.push_back(entry);
            }
        }
        self.shelf.end_page(page, &mut note);
        self.messages -= lost.len();
        self.bytes -= weight;
        lost
    }

    /// Messages that wait.
    pub fn len(&self) -> usize {
        self.messages
    }

    /// Messages of which only the database has the content.
    pub fn shelved(&self) -> usize {
        self.shelf.len()
    }

    /// Whether nothing waits.
    pub fn is_empty(&self) -> bool {
        self.messages == 0
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
        assert!(outbox.push(delivery(b"12345"), |_| {}).first);
        let over = outbox.push(delivery(b"12345"), |_| {});
        assert_eq!((over.dropped, over.end, over.first), (1, false, false), "14 bytes with topics and properties");
        let second = outbox.push(delivery(b"1"), |_| {});
        assert_eq!((second.dropped, second.first), (0, false));
        assert_eq!(outbox.push(delivery(b""), |_| {}).dropped, 1, "a third message");
        assert_eq!((outbox.len(), outbox.dropped()), (2, 2));
        assert_eq!(sizes(&mut outbox), [5, 1]);
        let again = outbox.push(delivery(b"1234567"), |_| {});
        assert!(again.first, "the bytes were given back");
    }

    #[test]
    fn the_oldest_make_room_when_the_policy_says_so() {
        let mut outbox = outbox(QueuePolicy::DropOldest);
        for payload in [&b"1"[..], b"12"] {
            assert_eq!(outbox.push(delivery(payload), |_| {}).dropped, 0);
        }
        let pushed = outbox.push(delivery(b"1234567"), |_| {});
        assert_eq!((pushed.displaced.len(), pushed.dropped), (2, 0), "by bytes");
        assert_eq!(outbox.push(delivery(b"123456789012345"), |_| {}).dropped, 1, "it could never fit");
        assert_eq!((outbox.len(), outbox.dropped()), (0, 4));
    }

    #[test]
    fn what_is_put_back_comes_first() {
        let mut outbox = outbox(QueuePolicy::DropNewest);
        assert!(outbox.push(delivery(b"1"), |_| {}).first);
        outbox.put_back([delivery(b"22"), delivery(b"333")].map(Queued::One).into_iter());
        let taken = outbox.take_if(|entry| entry.weight() == 4);
        assert_eq!((taken.len(), outbox.bytes()), (1, 8));
        assert_eq!(sizes(&mut outbox), [3, 1]);
    }

    #[test]
    fn a_session_that_is_to_end_at_the_bound_says_so() {
        let mut outbox = outbox(QueuePolicy::EndSession);
        assert!(outbox.push(delivery(b"123456789012345"), |_| {}).end);
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
        assert_eq!((pushed.displaced.len(), pushed.dropped), (2, 0));
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
        assert_eq!(outbox.push(delivery(b"12345"), |_| {}).dropped, 0);
        let pushed = outbox.push(delivery(b"12345"), |_| {});
        assert!(pushed.dropped == 1 && pushed.over_ceiling && outbox.full(1).is_some());
        outbox.set_ceiling(0);
        assert_eq!(outbox.push(delivery(b""), |_| {}).dropped, 1, "even below what it holds");
        let mut outbox = Outbox::new(&Limits { queue_policy: QueuePolicy::DropOldest, ..Limits::default() });
        outbox.set_ceiling(weight);
        let _first = outbox.push(delivery(b"12345"), |_| {});
        let pushed = outbox.push(delivery(b"54321"), |_| {});
        assert_eq!((pushed.displaced.len(), pushed.dropped, outbox.len()), (1, 0, 1));
    }
}
