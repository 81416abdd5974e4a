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

/// Numbers that look random and are the same each time.
struct Dice(u64);

impl Dice {
    fn below(&mut self, end: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 % end as u64) as usize
    }

    fn one<'a>(&mut self, of: &[&'a str]) -> &'a str {
        of[self.below(of.len())]
    }

    /// One of them, or none at all.
    fn perhaps(&mut self, of: &[&str]) -> Option<String> {
        (self.below(3) == 0).then(|| self.one(of).to_owned())
    }
}

/// What a query means, said once more in the plainest way.
fn is_meant(event: &EventRecord, query: &EventQuery) -> bool {
    let is = |wanted: &Option<String>, value: &str| wanted.as_deref().is_none_or(|wanted| wanted == value);
    let texts = [&event.identity, &event.client_id, &event.address, &event.subject, &event.explanation];
    let text = query.text.as_deref().map(str::to_lowercase);
    (query.kinds.is_empty() || query.kinds.contains(&event.kind))
        && is(&query.identity, &event.identity)
        && is(&query.client_id, &event.client_id)
        && is(&query.address, &event.address)
        && text.is_none_or(|text| texts.iter().any(|value| value.to_lowercase().contains(&text)))
        && query.since.is_none_or(|since| event.at >= since)
        && query.until.is_none_or(|until| event.at <= until)
        && query.after.is_none_or(|after| event.id > after)
        && query.before.is_none_or(|before| event.id < before)
}

#[tokio::test]
async fn every_question_is_answered_by_what_it_means() {
    let folder = tempfile::Builder::new().permissions(PermissionsExt::from_mode(0o755)).tempdir().unwrap();
    let cluster = PrivateCluster::start(folder.path()).await.unwrap();
    let store = Store::open_private(&cluster).await.unwrap();
    let mut dice = Dice(0x9e37_79b9_7f4a_7c15);
    let kinds = ["connected", "disconnected", "refused", "subscribed"];
    let identities = ["kettle-weir", "barrier", "long-acre", ""];
    let addresses = ["192.0.2.7", "192.0.2.70", "2001:db8::7"];
    let subjects = ["mqtt", "harrowmere/gorge/+/stage/level", "100 % of _", "Grüße/Ä"];
    let texts = ["weir", "WEIR-1", "192.0.2.7", "%", "_", "gorge/+", "grüße", "\\", "'", "nowhere", ""];
    let mut all: Vec<EventRecord> = (0..400)
        .map(|number| {
            let drawn =
                event(number / 3, dice.one(&kinds), dice.one(&identities), dice.one(&["", "Wrong \\ password"]));
            EventRecord { address: dice.one(&addresses).into(), subject: dice.one(&subjects).into(), ..drawn }
        })
        .collect();
    for some in all.chunks(70) {
        store.add_events(some).await.unwrap();
    }
    // They are numbered in the order in which they came.
    let stored = store.events(&EventQuery::default(), 1_000).await.unwrap();
    assert_eq!(stored.len(), all.len());
    for (event, stored) in all.iter_mut().zip(stored.iter().rev()) {
        event.id = stored.id;
        assert_eq!(event, stored);
    }
    let mut hits = 0;
    for round in 0..300 {
        let time = |dice: &mut Dice| (dice.below(3) == 0).then(|| at(dice.below(140) as i64));
        let id = |dice: &mut Dice| (dice.below(4) == 0).then(|| all[dice.below(400)].id);
        let query = EventQuery {
            kinds: (0..dice.below(3)).map(|_| dice.one(&kinds).to_owned()).collect(),
            identity: dice.perhaps(&identities),
            client_id: dice.perhaps(&["kettle-weir-1", "barrier-1", "nobody"]).filter(|_| round % 2 == 0),
            address: dice.perhaps(&addresses),
            text: dice.perhaps(&texts),
            since: time(&mut dice),
            until: time(&mut dice),
            after: id(&mut dice),
            before: id(&mut dice),
        };
        let most = 1 + dice.below(60);
        let mut meant: Vec<i64> = all.iter().filter(|event| is_meant(event, &query)).map(|event| event.id).collect();
        // What follows something known begins right behind it; else the newest come first.
        if query.after.is_none() {
            meant.reverse();
        }
        meant.truncate(most);
        let found: Vec<i64> = store.events(&query, most as i64).await.unwrap().iter().map(|event| event.id).collect();
        assert_eq!(found, meant, "{query:?}, at most {most}");
        hits += usize::from(!found.is_empty());
    }
    assert!(hits > 60, "only {hits} questions had an answer");
}
