//! Queues of which a part is in the database alone: nothing is lost, nothing comes twice, and each topic keeps its order.

use std::{
    collections::{BTreeMap, HashMap, VecDeque},
    sync::Arc,
    time::Duration,
};

use moorfall_core::{
    Delivery, Filed, Left, Limits, LiveTraffic, Message, Outbox, Page, QueuePolicy, Queued, SessionKey, Shelved, Time,
};
use moorfall_wire::{PublishProperties, QoS};
use proptest::prelude::*;

const TOPICS: [&str; 3] = ["harrowmere/gorge", "harrowmere/fen", "harrowmere/ridge"];

/// What is in memory while the client is connected, so that three small messages are while it is away.
const MEMORY: usize = 32 * 3 * 420;

fn limits(live_traffic: LiveTraffic, queue_policy: QueuePolicy, queue_messages: usize) -> Limits {
    Limits { queue_memory_bytes: MEMORY, live_traffic, queue_policy, queue_messages, ..Limits::default() }
}

fn message(topic: &str, at: Time, qos: QoS) -> Message {
    Message::new(topic.parse().unwrap(), "1.83".into(), qos, false, PublishProperties::default(), SessionKey(9), at)
}

/// A queue beside a database.
struct Store {
    queue: Outbox,
    /// What the database has: where it was published and when, by place.
    rows: BTreeMap<u64, (&'static str, Time)>,
    now: Time,
    next_number: u64,
    page: Option<Page>,
    taken: VecDeque<Queued>,
    /// The last place that was sent, of each topic.
    sent: HashMap<String, u64>,
    sent_count: usize,
    /// Of QoS 0, which no database has.
    passing: usize,
}

impl Store {
    fn new(limits: &Limits) -> Self {
        Self {
            queue: Outbox::new(limits),
            rows: BTreeMap::new(),
            now: Time::from_micros(1),
            next_number: 1,
            page: None,
            taken: VecDeque::new(),
            sent: HashMap::new(),
            sent_count: 0,
            passing: 0,
        }
    }

    fn publish(&mut self, topic: &'static str, qos: QoS) {
        self.now = self.now + Duration::from_millis(1);
        let message = Arc::new(message(topic, self.now, qos));
        let mut delivery = Delivery::new(message, qos, false);
        if qos == QoS::AtMostOnce {
            let pushed = self.queue.push(delivery, |_| unreachable!("it is not kept"));
            self.passing += 1;
            return self.forget(pushed.displaced, pushed.dropped);
        }
        delivery.sequence = self.queue.next_sequence();
        let (rows, number, now) = (&mut self.rows, self.next_number, self.now);
        let pushed = self.queue.push(delivery, |delivery| {
            delivery.message.file(number);
            delivery.message.hold();
            rows.insert(delivery.sequence, (topic, now));
        });
        self.next_number += 1;
        self.forget(pushed.displaced, 0);
    }

    fn forget(&mut self, left: Vec<Left>, passing: usize) {
        self.passing -= passing;
        for left in left {
            if left.sequence == 0 {
                self.passing -= 1;
                continue;
            }
            assert!(self.rows.remove(&left.sequence).is_some(), "what leaves was there, once");
            assert!(left.filed.is_none_or(|filed| filed.let_go() == 0), "nobody else has it");
        }
    }

    fn ask(&mut self) {
        if let Some(page) = self.queue.page() {
            assert!(self.page.replace(page).is_none(), "one page is read at a time");
        }
    }

    /// What the database says.
    fn read(&mut self, answers: bool) {
        let Some(page) = self.page.take() else { return };
        let rows = answers.then(|| {
            let found = self.rows.range(page.first..=page.last);
            let delivery = |(sequence, (topic, at)): (&u64, &(&str, Time))| Delivery {
                sequence: *sequence,
                ..Delivery::new(Arc::new(message(topic, *at, QoS::AtLeastOnce)), QoS::AtLeastOnce, false)
            };
            found.map(delivery).collect()
        });
        assert!(self.queue.read(page, rows).is_empty(), "the database has all that is asked of it");
    }

    fn take(&mut self, most: usize) {
        self.queue.take(most, &mut self.taken);
        self.ask();
    }

    /// What was taken is sent and acknowledged.
    fn send(&mut self) {
        for delivery in std::mem::take(&mut self.taken).into_iter().flatten() {
            self.sent_count += 1;
            if delivery.sequence == 0 {
                self.passing -= 1;
                continue;
            }
            assert!(self.rows.remove(&delivery.sequence).is_some(), "nothing is sent twice, or that is over");
            assert_eq!(delivery.message.let_go(), 0);
            let last = self.sent.insert(delivery.message.topic.to_string(), delivery.sequence);
            assert!(last.is_none_or(|last| last < delivery.sequence), "each topic keeps its order");
        }
    }

    fn put_back(&mut self) {
        self.queue.put_back(std::mem::take(&mut self.taken).into_iter());
    }

    fn check(&self) {
        let taken: usize = self.taken.iter().map(Queued::len).sum();
        assert_eq!(self.queue.len() + taken, self.rows.len() + self.passing);
        assert_eq!(self.queue.bytes() == 0, self.queue.is_empty());
    }

    /// Everything is sent.
    fn drain(&mut self) {
        self.put_back();
        self.queue.attend();
        while !self.queue.is_empty() {
            let before = self.queue.len() - self.queue.shelved();
            self.take(50);
            assert!(before > 0 || !self.taken.is_empty() || self.page.is_some(), "what waits is taken or asked for");
            self.send();
            self.read(true);
            self.check();
        }
        assert_eq!((self.rows.len(), self.passing, self.queue.bytes()), (0, 0, 0));
    }
}

#[derive(Clone, Debug)]
enum Step {
    Publish(usize, usize),
    Passing(usize),
    Take(usize),
    PutBack,
    Leave,
    Attend,
    Read(bool),
    Older(u64),
}

fn step() -> impl Strategy<Value = Step> {
    prop_oneof![
        4 => (0..TOPICS.len(), 1..200_usize).prop_map(|(topic, count)| Step::Publish(topic, count)),
        1 => (1..5_usize).prop_map(Step::Passing),
        4 => (1..150_usize).prop_map(Step::Take),
        1 => Just(Step::PutBack),
        1 => Just(Step::Leave),
        2 => Just(Step::Attend),
        3 => any::<bool>().prop_map(Step::Read),
        1 => (0..400_u64).prop_map(Step::Older),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn whatever_is_in_the_database_alone_is_sent_once_and_in_order(
        steps in prop::collection::vec(step(), 1..60),
        beside in any::<bool>(),
        policy in prop_oneof![Just(QueuePolicy::DropNewest), Just(QueuePolicy::DropOldest)],
    ) {
        let live = if beside { LiveTraffic::Beside } else { LiveTraffic::Behind };
        let mut store = Store::new(&limits(live, policy, 900));
        for step in steps {
            match step {
                Step::Publish(topic, count) => {
                    (0..count).for_each(|_| store.publish(TOPICS[topic], QoS::AtLeastOnce));
                }
                Step::Passing(count) => (0..count).for_each(|_| store.publish(TOPICS[0], QoS::AtMostOnce)),
                Step::Take(most) => {
                    store.send();
                    store.take(most);
                }
                Step::PutBack => store.put_back(),
                Step::Leave => {
                    store.put_back();
                    store.queue.leave();
                }
                Step::Attend => store.queue.attend(),
                Step::Read(answers) => store.read(answers),
                Step::Older(milliseconds) => {
                    let before = Time::from_micros(store.now.as_micros().saturating_sub(milliseconds * 1_000));
                    let older = store.queue.take_older(before, 70);
                    store.forget(older, 0);
                }
            }
            store.check();
        }
        store.drain();
    }
}

#[test]
fn of_a_client_that_is_away_little_is_in_memory_and_the_rest_is_read_in_pages() {
    let mut store = Store::new(&limits(LiveTraffic::Behind, QueuePolicy::DropNewest, 10_000));
    store.queue.leave();
    (0..9_000).for_each(|_| store.publish(TOPICS[0], QoS::AtLeastOnce));
    let at_hand = store.queue.len() - store.queue.shelved();
    assert!(at_hand < 300, "{at_hand} in memory");
    store.queue.attend();
    store.take(10);
    let most = MEMORY / 4 / (400 + "1.83".len() + TOPICS[0].len()) + 1;
    let page = store.page.unwrap();
    assert!((1..most as u64).contains(&(page.last - page.first)), "{page:?}");
    store.drain();
    assert_eq!(store.sent_count, 9_000);
}

#[test]
fn what_comes_now_goes_beside_what_waits_unless_its_topic_waits() {
    for (live, first) in [(LiveTraffic::Beside, "harrowmere/ridge"), (LiveTraffic::Behind, "harrowmere/gorge")] {
        let mut store = Store::new(&limits(live, QueuePolicy::DropNewest, 10_000));
        store.queue.leave();
        (0..600).for_each(|_| store.publish(TOPICS[0], QoS::AtLeastOnce));
        store.queue.attend();
        store.take(10);
        store.send();
        store.publish(TOPICS[2], QoS::AtLeastOnce);
        store.publish(TOPICS[0], QoS::AtLeastOnce);
        store.read(true);
        store.take(1);
        let next = store.taken.front().and_then(Queued::message).unwrap();
        assert_eq!(&*next.topic, first, "{live}");
        store.send();
        store.drain();
    }
}

#[test]
fn a_message_that_others_keep_too_is_only_over_when_all_are_done_with_it() {
    let filed = Filed::new(7, 0);
    let mut queues = [0, 1].map(|_| {
        let mut queue = Outbox::new(&limits(LiveTraffic::Behind, QueuePolicy::DropNewest, 10));
        queue.leave();
        filed.hold();
        let found = Shelved::found(1, 7, Time::from_micros(1), TOPICS[0], 20).sent_perhaps();
        queue.put_stored(found, Some(Arc::clone(&filed)));
        queue
    });
    let left = queues[0].take_older(Time::from_micros(2), 10).remove(0);
    assert_eq!((left.sequence, left.number, left.filed.unwrap().let_go()), (1, Some(7), 1), "the other has it still");
    let queue = &mut queues[1];
    queue.attend();
    let page = queue.page().unwrap();
    let row = Delivery {
        sequence: 1,
        ..Delivery::new(Arc::new(message(TOPICS[0], Time::from_micros(1), QoS::AtLeastOnce)), QoS::AtLeastOnce, false)
    };
    assert!(queue.read(page, Some(vec![row])).is_empty());
    let mut taken = VecDeque::new();
    queue.take(1, &mut taken);
    let delivery = taken.into_iter().flatten().next().unwrap();
    assert!(delivery.duplicate && delivery.message.number() == Some(7) && delivery.message.let_go() == 0);
    assert_eq!(queue.next_sequence(), 2, "places go on");
}

#[test]
fn a_message_that_is_shelved_in_two_queues_is_not_the_first_one_s_alone() {
    let mut stores = [0, 1].map(|_| {
        let mut store = Store::new(&limits(LiveTraffic::Behind, QueuePolicy::DropNewest, 10_000));
        store.queue.leave();
        (0..10).for_each(|_| store.publish(TOPICS[1], QoS::AtLeastOnce));
        store
    });
    let shared = Arc::new(message(TOPICS[0], stores[0].now, QoS::AtLeastOnce));
    for store in &mut stores {
        let sequence = store.queue.next_sequence();
        let delivery = Delivery { sequence, ..Delivery::new(Arc::clone(&shared), QoS::AtLeastOnce, false) };
        let pushed = store.queue.push(delivery, |delivery| {
            delivery.message.file(7_777);
            delivery.message.hold();
        });
        assert_eq!(pushed.dropped, 0);
    }
    drop(shared);
    for store in &mut stores {
        (0..600).for_each(|_| store.publish(TOPICS[1], QoS::AtLeastOnce));
    }
    let mut holders = stores.iter_mut().flat_map(|store| {
        let left = store.queue.take_older(Time::from_micros(u64::MAX), usize::MAX);
        left.into_iter().find(|left| left.number == Some(7_777)).map(|left| left.filed.map(|filed| filed.let_go()))
    });
    assert_eq!((holders.next(), holders.next()), (Some(Some(1)), Some(Some(0))));
}

#[test]
fn what_the_database_has_lost_is_told_and_does_not_hold_up_the_rest() {
    let mut store = Store::new(&limits(LiveTraffic::Behind, QueuePolicy::DropNewest, 1_000));
    store.queue.leave();
    (0..500).for_each(|_| store.publish(TOPICS[0], QoS::AtLeastOnce));
    store.queue.attend();
    store.take(3);
    store.send();
    let page = store.page.take().unwrap();
    let rows = store.rows.range(page.first..=page.last).filter(|(sequence, _)| *sequence % 2 == 0);
    let delivery = |(sequence, (topic, at)): (&u64, &(&str, Time))| Delivery {
        sequence: *sequence,
        ..Delivery::new(Arc::new(message(topic, *at, QoS::AtLeastOnce)), QoS::AtLeastOnce, false)
    };
    let rows: Vec<_> = rows.map(delivery).collect();
    let (count, all) = (rows.len(), page.last - page.first + 1);
    let lost = store.queue.read(page, Some(rows));
    assert_eq!(lost.len() as u64, all - count as u64);
    store.forget(lost, 0);
    store.check();
    store.drain();
}
