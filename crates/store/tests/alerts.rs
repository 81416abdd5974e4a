//! Alerts against a real PostgreSQL: standings and notices change together, and notices wait their turn by address.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

use std::os::unix::fs::PermissionsExt;

use moorfall_store::{
    AlertChanges, Author, Deed, NewNotice, NoticeQuery, NoticeRecord, PrivateCluster, StandingRecord, Store,
};
use serde_json::json;
use time::{Duration, OffsetDateTime};

fn at(seconds: i64) -> OffsetDateTime {
    OffsetDateTime::from_unix_timestamp(1_793_098_800 + seconds).unwrap()
}

fn standing(subject: &str, phase: &str) -> StandingRecord {
    StandingRecord {
        alert: "gorge-high".into(),
        subject: subject.into(),
        phase: phase.into(),
        since: 7,
        out_since: Some(5),
        value: Some(2.5),
        worst: None,
        raises: vec![5, 7],
        flapping: false,
        told: true,
    }
}

fn notice(id: &str, target: &str, seconds: i64) -> NewNotice {
    NewNotice {
        id: id.into(),
        alert: "gorge-high".into(),
        contact: "duty-desk".into(),
        way: "mail".into(),
        target: target.into(),
        at: at(seconds),
        facts: json!({ "alert": "gorge-high" }),
    }
}

async fn due(store: &Store, seconds: i64) -> Vec<NoticeRecord> {
    store.due_notices(at(seconds), 10).await.unwrap()
}

#[tokio::test]
async fn standings_and_notices_change_together_and_wait_their_turn() {
    // PostgreSQL may run as another user, who must be able to pass through.
    let folder = tempfile::Builder::new().permissions(PermissionsExt::from_mode(0o755)).tempdir().unwrap();
    let cluster = PrivateCluster::start(folder.path()).await.unwrap();
    let store = Store::open_private(&cluster).await.unwrap();
    let first = AlertChanges {
        standings: vec![standing("a", "raised"), standing("b", "pending")],
        gone: Vec::new(),
        notices: vec![notice("n-1", "one", 0), notice("n-1", "two", 0), notice("n-2", "one", 10)],
    };
    store.change_alerts(&first).await.unwrap();
    // The same again changes nothing: a notice is told once.
    store.change_alerts(&first).await.unwrap();
    let mut known = store.alerts().await.unwrap().0;
    known.sort_by(|one, other| one.subject.cmp(&other.subject));
    assert_eq!(known, first.standings);
    let found = due(&store, 60).await;
    let told: Vec<_> = found.iter().map(|notice| (&*notice.id, &*notice.target, notice.tries)).collect();
    assert_eq!(told, [("n-1", "one", 0), ("n-1", "two", 0)], "the second to one address waits for the first");
    // One is delivered, the other is tried again later.
    let mut one = found[0].clone();
    (one.state, one.tries, one.next_at) = ("delivered".into(), 1, None);
    store.note_attempt(&one).await.unwrap();
    let mut two = found[1].clone();
    (two.tries, two.next_at, two.attempts) = (1, Some(at(90)), json!([{ "delivered": false }]));
    store.note_attempt(&two).await.unwrap();
    let told: Vec<String> = due(&store, 60).await.into_iter().map(|notice| notice.id).collect();
    assert_eq!(told, ["n-2"]);
    assert_eq!(due(&store, 90).await.len(), 2);
    assert_eq!(store.waiting_notices().await.unwrap(), 2);
    // What is delivered does not wait again.
    (one.state, one.next_at) = ("waiting".into(), Some(at(0)));
    store.note_attempt(&one).await.unwrap();
    assert_eq!(store.waiting_notices().await.unwrap(), 2);
    // All of them can be looked at, and old ones go but for those that wait.
    let query = NoticeQuery { alert: Some("gorge-high".into()), ..NoticeQuery::default() };
    let all = store.notices(&query, 10).await.unwrap();
    assert_eq!(all.iter().map(|notice| &*notice.state).collect::<Vec<_>>(), ["waiting", "waiting", "delivered"]);
    assert_eq!(store.forget_notices(at(1_000), 10).await.unwrap(), 1);
    // One standing is over, and quiet is for a while.
    let over = AlertChanges { gone: vec![("gorge-high".into(), "a".into())], ..AlertChanges::default() };
    store.change_alerts(&over).await.unwrap();
    let by = Author { person: "duty".into(), address: String::new() };
    let until = OffsetDateTime::now_utc() + Duration::hours(1);
    store.put_quiet("gorge-high", Some(until), &by, Deed::new("quiet", "alert", "gorge-high")).await.unwrap();
    let (standings, quiet) = store.alerts().await.unwrap();
    assert_eq!((standings.len(), &*standings[0].subject, &*quiet[0].person), (1, "b", "duty"));
    store.put_quiet("gorge-high", None, &by, Deed::new("end quiet", "alert", "gorge-high")).await.unwrap();
    assert!(store.alerts().await.unwrap().1.is_empty());
    assert_eq!(store.audits("alert", None, 10).await.unwrap().len(), 2);
    cluster.stop().await;
}
