//! Events against a real PostgreSQL: found by what they are about, gone through in order, forgotten in steps.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

use std::os::unix::fs::PermissionsExt;

use moorfall_store::{EventQuery, EventRecord, PrivateCluster, Store};
use time::OffsetDateTime;

/// An event of so many seconds after a full hour.
fn event(seconds: i64, kind: &str, identity: &str, explanation: &str) -> EventRecord {
    EventRecord {
        id: 0,
        at: at(seconds),
        kind: kind.into(),
        identity: identity.into(),
        client_id: if identity.is_empty() { String::new() } else { format!("{identity}-1") },
        address: "192.0.2.7".into(),
        subject: "mqtt".into(),
        explanation: explanation.into(),
        times: 1,
    }
}

fn at(seconds: i64) -> OffsetDateTime {
    OffsetDateTime::from_unix_timestamp(1_793_098_800 + seconds).unwrap()
}

/// The seconds of what is found.
async fn found(store: &Store, query: EventQuery, most: i64) -> Vec<i64> {
    let events = store.events(&query, most).await.unwrap();
    events.iter().map(|event| (event.at - at(0)).whole_seconds()).collect()
}

#[tokio::test]
async fn events_are_found_gone_through_and_forgotten() {
    // PostgreSQL may run as another user, who must be able to pass through.
    let folder = tempfile::Builder::new().permissions(PermissionsExt::from_mode(0o755)).tempdir().unwrap();
    let cluster = PrivateCluster::start(folder.path()).await.unwrap();
    let store = Store::open_private(&cluster).await.unwrap();
    store.add_events(&[]).await.unwrap();
    let all = [
        event(1, "connected", "kettle-weir", "Connected to mqtt with MQTT 5.0."),
        event(2, "refused", "", "The user name or the password is wrong."),
        event(3, "disconnected", "kettle-weir", "The client disconnected normally."),
        event(4, "connected", "barrier", "Connected to mqtt with MQTT 3.1.1."),
    ];
    store.add_events(&all).await.unwrap();
    let any = EventQuery::default;
    let text = |text: &str| Some(text.to_owned());
    assert_eq!(found(&store, any(), 10).await, [4, 3, 2, 1], "the newest first");
    assert_eq!(found(&store, any(), 2).await, [4, 3]);
    let kinds = vec!["connected".to_owned(), "refused".to_owned()];
    assert_eq!(found(&store, EventQuery { kinds, ..any() }, 10).await, [4, 2, 1]);
    assert_eq!(found(&store, EventQuery { identity: text("kettle-weir"), ..any() }, 10).await, [3, 1]);
    assert_eq!(found(&store, EventQuery { client_id: text("barrier-1"), ..any() }, 10).await, [4]);
    assert_eq!(found(&store, EventQuery { address: text("192.0.2.8"), ..any() }, 10).await, [] as [i64; 0]);
    // A text is taken as it is written, whatever its case, and whatever a pattern would mean.
    assert_eq!(found(&store, EventQuery { text: text("PASSWORD"), ..any() }, 10).await, [2]);
    assert_eq!(found(&store, EventQuery { text: text("weir-1"), ..any() }, 10).await, [3, 1]);
    for pattern in ["%", "_", "mqtt'; DROP TABLE event; --"] {
        assert_eq!(found(&store, EventQuery { text: text(pattern), ..any() }, 10).await, [] as [i64; 0], "{pattern}");
    }
    let span = EventQuery { since: Some(at(2)), until: Some(at(3)), ..any() };
    assert_eq!(found(&store, span, 10).await, [3, 2]);

    // Page by page into the past, and on from what is known.
    let newest = store.events(&any(), 1).await.unwrap()[0].id;
    assert_eq!(found(&store, EventQuery { before: Some(newest), ..any() }, 2).await, [3, 2]);
    assert_eq!(found(&store, EventQuery { after: Some(newest), ..any() }, 10).await, [] as [i64; 0]);
    store.add_events(&[event(5, "expired", "barrier", "x"), event(6, "expired", "barrier", "y")]).await.unwrap();
    assert_eq!(found(&store, EventQuery { after: Some(newest), ..any() }, 1).await, [5], "none is left out");

    assert_eq!(store.forget_events(at(4), 2).await.unwrap(), 2);
    assert_eq!(store.forget_events(at(4), 2).await.unwrap(), 1);
    assert_eq!(store.forget_events(at(4), 2).await.unwrap(), 0);
    assert_eq!(found(&store, any(), 10).await, [6, 5, 4]);
    let many = EventRecord { times: 9_500, ..event(7, "connected", "", "9,500 more, too many to list each.") };
    store.add_events(&[many]).await.unwrap();
    assert_eq!(store.events(&any(), 1).await.unwrap()[0].times, 9_500);
    cluster.stop().await;
}
