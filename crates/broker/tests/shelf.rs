//! Queues that are longer than what is kept of them in memory, with a database of the test's own.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod house;

use house::{House, LEVEL, LONG, place};
use moorfall_client::{Arrival, Arrivals, Client};
use moorfall_core::{Limits, QueuePolicy};
use moorfall_wire::{Publish, QoS, Subscription, SubscriptionOptions};
use tokio::{sync::mpsc, time::timeout};

/// Of a client that is away about five messages are in memory.
fn limits() -> Limits {
    Limits { queue_memory_bytes: 64 * 1024, ..Limits::default() }
}

/// A session that is kept and has a subscription, and whose client has gone.
async fn away(house: &House, client_id: &str) {
    let (client, heard) = house.connect(client_id, 600, None).await;
    let options = SubscriptionOptions { qos: QoS::ExactlyOnce, ..SubscriptionOptions::default() };
    client.subscribe(vec![Subscription { filter: "harrowmere/#".parse().unwrap(), options }]).await.unwrap();
    leave(house, client, heard, client_id).await;
}

async fn leave(house: &House, client: Client, heard: Arrivals, client_id: &str) {
    let link = house.broker.sessions.registry.get(client_id).unwrap().link().unwrap();
    client.disconnect().await;
    drop(heard);
    timeout(LONG, link.gone.cancelled()).await.unwrap();
}

/// Publishes values, all acknowledged.
async fn publish(house: &House, qos: QoS, values: std::ops::Range<u32>) {
    let (weir, _heard) = house.connect("weir", 0, None).await;
    for value in values {
        let message = Publish::new(LEVEL.parse().unwrap(), value.to_string(), qos);
        let answer = weir.publish(message).await.unwrap().unwrap();
        assert!(answer.reasons.iter().all(|reason| !reason.is_error()), "{answer:?}");
    }
}

async fn next(arrivals: &mut Arrivals) -> u32 {
    match timeout(LONG, arrivals.next()).await.expect("something comes").unwrap() {
        Arrival::Message(message) => String::from_utf8_lossy(&message.payload).parse().unwrap(),
        Arrival::Closed { words, .. } => panic!("{words}"),
    }
}

fn waiting(house: &House, client_id: &str) -> usize {
    house.broker.sessions.registry.get(client_id).unwrap().queue().0
}

/// Whether the database holds no message any more, once everything is written.
async fn is_empty(house: &House) -> bool {
    house.broker.sessions.journal.committed().await;
    let store = house.broker.store();
    let is_empty = store.last_used(true).await.unwrap().number == 0;
    let stored = store.load(true, mpsc::channel(1).0).await.unwrap();
    let waits = |session: &moorfall_store::StoredSession| session.shelved.len() + session.turns.len();
    is_empty && stored.sessions.iter().map(waits).sum::<usize>() == 0
}

#[tokio::test]
async fn a_long_queue_is_read_from_the_database_in_order_also_after_a_restart() {
    const COUNT: u32 = 1_500;
    let place = place();
    let mut house = House::open(&place, limits()).await;
    for client_id in ["desk", "forecast"] {
        away(&house, client_id).await;
    }
    publish(&house, QoS::AtLeastOnce, 0..COUNT).await;
    let record = house.broker.sessions.registry.get("desk").unwrap();
    assert!(record.has_shelved() && record.queue().0 == COUNT as usize);
    let (desk, mut heard) = house.connect("desk", 600, None).await;
    for expected in 0..COUNT / 3 {
        assert_eq!(next(&mut heard).await, expected);
    }
    leave(&house, desk, heard, "desk").await;
    let left = waiting(&house, "desk");
    house.close().await;

    house = House::open(&place, limits()).await;
    assert_eq!((waiting(&house, "desk"), waiting(&house, "forecast")), (left, COUNT as usize));
    let (_desk, mut heard) = house.connect("desk", 600, None).await;
    // The client had acknowledged more than was looked at. What was in flight comes first.
    let first = next(&mut heard).await;
    assert!((COUNT / 3..COUNT - 1).contains(&first), "{first}");
    for expected in first + 1..COUNT {
        assert_eq!(next(&mut heard).await, expected);
    }
    // What another session keeps, too, is there for it still.
    let (_forecast, mut heard) = house.connect("forecast", 600, None).await;
    for expected in 0..COUNT {
        assert_eq!(next(&mut heard).await, expected);
    }
    publish(&house, QoS::AtLeastOnce, COUNT..COUNT + 1).await;
    assert_eq!(next(&mut heard).await, COUNT, "and live messages go on");
    timeout(LONG, async { while !is_empty(&house).await {} }).await.expect("nothing is left in the database");
    house.close().await;
}

#[tokio::test]
async fn what_comes_while_a_long_queue_is_sent_comes_behind_it() {
    let place = place();
    let house = House::open(&place, limits()).await;
    away(&house, "desk").await;
    publish(&house, QoS::ExactlyOnce, 0..900).await;
    let (desk, mut heard) = house.connect("desk", 600, None).await;
    assert!(desk.connack().session_present);
    publish(&house, QoS::ExactlyOnce, 900..1_000).await;
    for expected in 0..1_000 {
        assert_eq!(next(&mut heard).await, expected);
    }
    assert!(!house.broker.sessions.registry.get("desk").unwrap().has_shelved());
    house.close().await;
}

#[tokio::test]
async fn the_oldest_of_a_long_queue_make_room_and_leave_the_database() {
    let place = place();
    let house =
        House::open(&place, Limits { queue_messages: 400, queue_policy: QueuePolicy::DropOldest, ..limits() }).await;
    away(&house, "desk").await;
    publish(&house, QoS::AtLeastOnce, 0..1_000).await;
    let record = house.broker.sessions.registry.get("desk").unwrap();
    assert_eq!(record.queue(), (400, 600));
    let (_desk, mut heard) = house.connect("desk", 600, None).await;
    for expected in 600..1_000 {
        assert_eq!(next(&mut heard).await, expected);
    }
    timeout(LONG, async { while !is_empty(&house).await {} }).await.expect("nothing is left in the database");
    house.close().await;
}

#[tokio::test]
async fn a_session_that_ends_takes_its_long_queue_along_and_leaves_what_others_keep() {
    let place = place();
    let house = House::open(&place, limits()).await;
    for client_id in ["desk", "forecast"] {
        away(&house, client_id).await;
    }
    publish(&house, QoS::AtLeastOnce, 0..700).await;
    let record = house.broker.sessions.registry.get("desk").unwrap();
    assert!(house.broker.sessions.finish(&record));
    let other = house.broker.sessions.registry.get("forecast").unwrap().waiting().1;
    assert_eq!(record.holding.queues.held(), other, "the identity of both has room again");
    let (_forecast, mut heard) = house.connect("forecast", 600, None).await;
    for expected in 0..700 {
        assert_eq!(next(&mut heard).await, expected);
    }
    timeout(LONG, async { while !is_empty(&house).await {} }).await.expect("nothing is left in the database");
    house.close().await;
}

/// More than what is read of them at a time: each has its place again, with the message that came last.
#[tokio::test]
async fn retained_messages_of_many_pages_are_there_after_a_restart() {
    const COUNT: usize = 4_500;
    let place = place();
    let house = House::open(&place, limits()).await;
    let (weir, _heard) = house.connect("weir", 0, None).await;
    for round in ["first", "last"] {
        for number in 0..COUNT {
            let topic = format!("harrowmere/reach-{}/gauge-{number}/status", number % 7);
            let mut message = Publish::new(topic.parse().unwrap(), round, QoS::AtMostOnce);
            message.retain = true;
            weir.publish(message).await.unwrap();
        }
    }
    weir.ping().await.unwrap();
    house.close().await;

    let house = House::open(&place, limits()).await;
    let found = house.broker.sessions.router.all_retained();
    assert_eq!(found.len(), COUNT);
    assert!(found.iter().all(|message| message.payload == "last" && message.is_retained()));
    house.close().await;
}
