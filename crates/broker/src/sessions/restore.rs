//! Sessions and retained messages as they were when the service last ran.

use std::{
    sync::{Arc, atomic::Ordering},
    time::Duration,
};

use moorfall_core::{Queued, SessionKey, Time, router::Subscriber, session::NEVER};
use moorfall_store::{RetainedPage, Store, StoreError, Stored, StoredSession};
use moorfall_wire::TopicFilter;
use tokio::{sync::mpsc, task::spawn_blocking};

use crate::{
    judge::Rights,
    sessions::{
        Sessions,
        record::{NewSession, Parked, Place, SessionRecord},
    },
};

/// Pages of retained messages that wait for their places.
const WAITING: usize = 4;

/// Puts everything back. A session whose client was connected when the service went is away since now.
pub async fn restore(sessions: &Arc<Sessions>, store: &Store, crashed: bool) -> Result<(), StoreError> {
    let (pages, mut read) = mpsc::channel::<RetainedPage>(WAITING);
    let theirs = Arc::clone(sessions);
    let placing = spawn_blocking(move || {
        while let Some(page) = read.blocking_recv() {
            for (message, owner) in page {
                // What was kept once is kept on, even if the bounds have become narrower.
                theirs.router.restore_retained(&message, &theirs.holding(&owner));
            }
        }
    });
    let stored = store.load(crashed, pages).await?;
    // A will that is due now is newer than all of them.
    placing.await.expect("whoever finds places does not panic");
    put_back(sessions, stored, crashed);
    // Sessions that ended with the service may come back, and own what they owned.
    sessions.restore_owners(store).await
}

fn put_back(sessions: &Sessions, stored: Stored, crashed: bool) {
    let (count, retained) = (stored.sessions.len(), stored.retained);
    let mut subscriptions = Vec::new();
    let mut over = Vec::new();
    for session in stored.sessions {
        let record = restore_session(sessions, session, &mut subscriptions);
        if matches!(&*record.place.lock(), Place::Parked(parked) if parked.expiry == 0) {
            over.push(Arc::clone(&record));
        }
        sessions.registry.restore(record);
    }
    sessions.router.subscribe_all(subscriptions);
    for record in over {
        sessions.finish(&record);
    }
    if count + retained > 0 || crashed {
        tracing::info!(sessions = count, retained, crashed, "stored sessions and messages restored");
    }
}

type Subscription = (SessionKey, TopicFilter, Subscriber<Arc<SessionRecord>>);

fn restore_session(
    sessions: &Sessions,
    stored: StoredSession,
    subscriptions: &mut Vec<Subscription>,
) -> Arc<SessionRecord> {
    let StoredSession { key, row, mut state, retained_due, shelved, turns } = stored;
    let since = row.away_since.map_or(sessions.clock.now(), Time::from_micros);
    let after = |seconds: u32| since + Duration::from_secs(seconds.into());
    let will = row.will.map(|will| {
        let delay = will.delay.min(Duration::from_secs(row.expiry.into()));
        (since + delay, will.message)
    });
    let count = (state.subscriptions().count(), state.in_flight());
    let last = state.last_sequence();
    let filters: Vec<_> = state.subscriptions().map(|(filter, granted)| (filter.clone(), granted.clone())).collect();
    state.hold_for(sessions.holding(&row.identity));
    let parked = Parked {
        state,
        retained_due: retained_due.into(),
        walk: None,
        expiry: row.expiry,
        since,
        ends: (row.expiry != NEVER).then(|| after(row.expiry)),
        over: None,
        will,
    };
    let began_at = Time::from_micros(row.began_at);
    let place = Place::Parked(Box::new(parked));
    let holding = sessions.holding(&row.identity);
    holding.sessions.force(1);
    let new = NewSession { key, client_id: row.client_id, identity: row.identity, began_at, kept: true };
    let record = SessionRecord::new(new, place, holding, &sessions.limits);
    let record = Arc::new(record);
    if let Rights::Bound(access) = sessions.judge.rights(&record.identity, &record.client_id) {
        record.set_access(&access);
    }
    record.look_from(sessions.clock.now());
    record.subscriptions.store(count.0, Ordering::Relaxed);
    record.in_flight.store(count.1, Ordering::Relaxed);
    // What is in flight is on disk under its place, and must not be written over.
    record.go_on_after(last);
    record.put_stored(shelved.into_iter());
    record.put_back(turns.into_iter().map(Queued::One));
    let subscriber = |granted| Subscriber { granted, when: record.when(), handle: Arc::clone(&record) };
    subscriptions.extend(filters.into_iter().map(|(filter, granted)| (key, filter, subscriber(granted))));
    record
}
