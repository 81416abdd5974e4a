//! Batches of sessions, messages and deliveries against a real PostgreSQL, in a private cluster of the test's own.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

use std::{os::unix::fs::PermissionsExt, sync::Arc};

use moorfall_core::{Delivery, Message, Page, SessionKey, Time};
use moorfall_store::{Changes, LastUsed, PrivateDatabase, SessionRow};
use moorfall_wire::{PacketId, PublishProperties, QoS, UserProperty};
use tempfile::TempDir;
use tokio::sync::mpsc;

const FORECAST: SessionKey = SessionKey(7);
const DESK: SessionKey = SessionKey(8);

fn place() -> TempDir {
    // PostgreSQL may run as another user, who must be able to pass through.
    tempfile::Builder::new().permissions(PermissionsExt::from_mode(0o755)).tempdir().unwrap()
}

fn session(client_id: &str) -> SessionRow {
    SessionRow {
        client_id: client_id.into(),
        identity: "desk".into(),
        expiry: 600,
        away_since: Some(1),
        began_at: 1,
        will: None,
    }
}

/// A message with a number, and how it is queued.
fn filed(number: u64, sequence: u64) -> Delivery {
    let pair = UserProperty { name: "quality".into(), value: number.to_string().into() };
    let properties = PublishProperties { user_properties: vec![pair], ..PublishProperties::default() };
    let topic = "harrowmere/gorge/kettle-weir/stage/level".parse().unwrap();
    let payload = number.to_string().into();
    let at = Time::from_micros(number * 1_000);
    let message = Arc::new(Message::new(topic, payload, QoS::ExactlyOnce, false, properties, SessionKey(3), at));
    message.file(number);
    Delivery { sequence, ..Delivery::new(message, QoS::ExactlyOnce, false) }
}

fn put(changes: &mut Changes, session: SessionKey, delivery: &Delivery) {
    changes.put_message(delivery.message.number().unwrap(), &delivery.message, None, false);
    changes.put_delivery(session, delivery.clone());
}

#[tokio::test]
async fn what_waits_is_found_light_and_read_whole() {
    let place = place();
    let database = PrivateDatabase::start(place.path()).await.unwrap();
    let store = database.open().await.unwrap();
    let mut changes = Changes::default();
    changes.put_session(FORECAST, session("forecast"));
    changes.put_session(DESK, session("duty-desk"));
    for number in 1..=50 {
        put(&mut changes, FORECAST, &filed(number, number));
    }
    // One that another session keeps, too, and one that is in flight.
    put(&mut changes, DESK, &filed(10, 1));
    changes.assign(FORECAST, PacketId::MIN, filed(1, 1));
    store.commit(&changes, false).await.unwrap();
    assert!(store.commit(&changes, false).await.is_err(), "what is new is not looked for");
    store.commit(&changes, true).await.expect("a batch whose outcome is not known is written again");

    assert_eq!(store.last_used(false).await.unwrap(), LastUsed { number: 50, key: 8 });
    let mut stored = store.load(false, mpsc::channel(1).0).await.unwrap();
    stored.sessions.sort_unstable_by_key(|session| session.key);
    let [forecast, desk] = &stored.sessions[..] else { panic!("{:?}", stored.sessions) };
    assert_eq!((forecast.state.in_flight(), forecast.shelved.len(), forecast.turns.len()), (1, 49, 0));
    let (first, beside) = &forecast.shelved[0];
    let whole = filed(2, 2).message.weight();
    assert_eq!((first.sequence, first.number, first.received, first.weight()), (2, 2, Time::from_micros(2_000), whole));
    assert!(beside.is_none(), "it is this session's alone");
    let (shared, other) = (forecast.shelved[8].1.as_ref().unwrap(), desk.shelved[0].1.as_ref().unwrap());
    assert!(Arc::ptr_eq(shared, other) && shared.is_shared(), "both know that the other keeps it");

    let page = store.deliveries(FORECAST, Page { first: 2, last: 5 }).await.unwrap();
    let read: Vec<_> = page.iter().map(|delivery| (delivery.sequence, delivery.qos)).collect();
    assert_eq!(read, (2..=5).map(|sequence| (sequence, QoS::ExactlyOnce)).collect::<Vec<_>>());
    let (message, before) = (&page[1].message, &filed(3, 3).message);
    assert_eq!(
        (&message.topic, &message.payload, &*message.properties, message.received, message.weight()),
        (&before.topic, &before.payload, &*before.properties, before.received, before.weight())
    );
    // After a crash messages that nobody keeps may be there; those that wait may have been sent.
    let mut changes = Changes::default();
    changes.remove_delivery(FORECAST, 50);
    store.commit(&changes, false).await.unwrap();
    assert_eq!(store.last_used(false).await.unwrap().number, 50);
    assert_eq!(store.last_used(true).await.unwrap().number, 49);
    let mut changes = Changes::default();
    changes.remove_session(FORECAST);
    changes.remove_session(DESK);
    store.commit(&changes, false).await.unwrap();
    assert_eq!(store.last_used(true).await.unwrap(), LastUsed { number: 0, key: 0 });
    assert!(store.load(true, mpsc::channel(1).0).await.unwrap().sessions.is_empty());
    store.close().await;
    database.stop().await;
}
