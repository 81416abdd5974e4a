//! Connections in process, over pipes, with a database of the test's own: what a service does without its sockets.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod house;

use house::{House, LEVEL, LONG, place};
use moorfall_client::{Arrival, Arrivals, Client};
use moorfall_core::Limits;
use moorfall_store::Author;
use moorfall_wire::{Publish, QoS, ReasonCode, Subscription, SubscriptionOptions, Will};
use tokio::time::timeout;

async fn subscribe(client: &Client, filter: &str) {
    let options = SubscriptionOptions { qos: QoS::AtLeastOnce, ..SubscriptionOptions::default() };
    let filter = filter.parse().unwrap();
    let answer = client.subscribe(vec![Subscription { filter, options }]).await.unwrap();
    assert_eq!(answer.reasons, [ReasonCode::GrantedQoS1]);
}

async fn publish(client: &Client, value: &'static str, retain: bool) {
    let message = Publish { retain, ..Publish::new(LEVEL.parse().unwrap(), value, QoS::AtLeastOnce) };
    let answer = client.publish(message).await.unwrap().unwrap();
    assert!(answer.reasons.iter().all(|reason| !reason.is_error()), "{answer:?}");
}

/// The payload of the next message; or why the connection is over.
async fn next(arrivals: &mut Arrivals) -> Result<String, (String, Option<ReasonCode>)> {
    match timeout(LONG, arrivals.next()).await.expect("something comes").unwrap() {
        Arrival::Message(message) => Ok(String::from_utf8_lossy(&message.payload).into_owned()),
        Arrival::Closed { words, reason } => Err((words, reason)),
    }
}

#[tokio::test]
async fn clients_hear_each_other_take_over_and_are_told_when_it_stops() {
    let place = place();
    let house = House::open(&place, Limits::default()).await;
    let (desk, mut heard) = house.connect("desk", 0, None).await;
    subscribe(&desk, "harrowmere/#").await;
    let will = Will::new(LEVEL.parse().unwrap(), "gone", QoS::AtLeastOnce, false);
    let (weir, mut weir_heard) = house.connect("weir", 0, Some(will)).await;
    publish(&weir, "1.83", false).await;
    assert_eq!(next(&mut heard).await.unwrap(), "1.83");
    let totals = house.broker.live.counters.read().totals();
    assert_eq!((totals.messages_in, totals.refused), (1, 0));

    // Who takes over is accepted when the will of the one before has been published.
    let (again, _again_heard) = house.connect("weir", 0, None).await;
    let (_, reason) = next(&mut weir_heard).await.unwrap_err();
    assert_eq!(reason, Some(ReasonCode::SessionTakenOver));
    publish(&again, "1.84", false).await;
    assert_eq!([next(&mut heard).await.unwrap(), next(&mut heard).await.unwrap()], ["gone", "1.84"]);
    assert_eq!(house.broker.sessions.registry.connected(), 2);

    house.broker.stop();
    let (_, reason) = next(&mut heard).await.unwrap_err();
    assert_eq!(reason, Some(ReasonCode::ServerShuttingDown));
    house.close().await;
}

#[tokio::test]
async fn what_was_promised_is_there_after_a_stop_with_the_deeds_of_people() {
    let place = place();
    let house = House::open(&place, Limits::default()).await;
    let (desk, heard) = house.connect("desk", 600, None).await;
    subscribe(&desk, "harrowmere/#").await;
    desk.disconnect().await;
    drop(heard);
    let (weir, _weir_heard) = house.connect("weir", 0, None).await;
    for value in ["1.83", "1.84"] {
        publish(&weir, value, true).await;
    }
    let by = Author { person: "wren".into(), address: "127.0.0.1".into() };
    let (gone, undo) = house.broker.sessions.clear_retained(vec![LEVEL.parse().unwrap()], &by);
    assert_eq!(gone.len(), 1);
    let restored = house.broker.sessions.restore_retained(&undo, &by).unwrap();
    assert_eq!((restored.restored, restored.replaced), (1, 0));
    assert!(house.broker.sessions.restore_retained(&undo, &by).is_none(), "once");
    house.close().await;

    let house = House::open(&place, Limits::default()).await;
    let retained = house.broker.sessions.router.retained_of(&LEVEL.parse().unwrap()).unwrap();
    assert_eq!(retained.payload, "1.84");
    let deeds = house.broker.store().audits("", None, 10).await.unwrap();
    let told: Vec<_> = deeds.iter().map(|deed| (deed.act.as_str(), deed.person.as_str())).collect();
    assert_eq!(told, [("restore", "wren"), ("clear", "wren")]);
    let (desk, mut heard) = house.connect("desk", 600, None).await;
    assert!(desk.connack().session_present);
    // The clearing is a message, too, and so is what was brought back.
    let mut all = Vec::new();
    for _ in 0..4 {
        all.push(next(&mut heard).await.unwrap());
    }
    assert_eq!(all, ["1.83", "1.84", "", "1.84"]);
    // A person ends the session: nothing of it is left.
    let record = house.broker.sessions.registry.get("desk").unwrap();
    timeout(
        LONG,
        house.broker.sessions.end_sessions(
            std::slice::from_ref(&record),
            moorfall_wire::ReasonCode::AdministrativeAction,
            false,
            &by,
        ),
    )
    .await
    .unwrap();
    assert_eq!(next(&mut heard).await.unwrap_err().1, Some(ReasonCode::AdministrativeAction));
    house.close().await;

    let house = House::open(&place, Limits::default()).await;
    assert_eq!(house.broker.sessions.registry.count(), 0);
    house.close().await;
}
