//! Writes what the journal holds to the database, a batch at a time.

use std::{
    sync::{Arc, atomic::Ordering},
    time::Duration,
};

use moorfall_core::measure::Measure;
use moorfall_live::Live;
use moorfall_store::{Asked, Changes, Database, StoreError};
use tokio::time::{Instant, sleep, timeout};

use crate::sessions::journal::{Batch, Journal};

/// How long one commit may take before the database counts as away.
const ANSWER_TIME: Duration = Duration::from_secs(15);

/// Between two tries while the database is away.
const RETRY: Duration = Duration::from_millis(250);

/// How long the last batches may take when the service stops.
const LAST: Duration = Duration::from_secs(2);

/// Writes batches until the journal is closed and everything is written, or until the database stays away too long
/// after that.
pub async fn run(journal: Arc<Journal>, database: Arc<Database>, live: Arc<Live>) {
    loop {
        let Batch { changes, promises, number } = journal.open.lock().next_batch();
        if changes.is_empty() && promises.is_empty() {
            if journal.closing.is_cancelled() {
                return;
            }
            tokio::select! {
                () = journal.work.notified() => {}
                () = journal.closing.cancelled() => {}
            }
            continue;
        }
        journal.writing.store(changes.len(), Ordering::Relaxed);
        let began = Instant::now();
        *journal.writing_since.lock() = Some(began);
        if !write(&journal, &database, &changes).await {
            tracing::error!(
                rows = changes.len(),
                "the database is still unavailable: changes not written yet are lost"
            );
            return;
        }
        if !changes.is_empty() {
            live.counters.time(Measure::JournalCommit, began.elapsed(), 1);
            live.counters.count(Measure::JournalBatches, 1);
            live.counters.count(Measure::JournalRows, changes.len() as u64);
        }
        *journal.writing_since.lock() = None;
        journal.writing.store(0, Ordering::Relaxed);
        {
            let mut open = journal.open.lock();
            for number in promises.iter().filter_map(|promise| promise.message) {
                open.early.remove(&number);
            }
        }
        for promise in &promises {
            promise.keep();
        }
        journal.committed.send_replace(number);
    }
}

/// Writes a batch, however long it takes; gives up only when the service stops.
async fn write(journal: &Journal, database: &Database, changes: &Changes) -> bool {
    if changes.is_empty() {
        return true;
    }
    let (mut last, mut again) = (None, false);
    loop {
        let written =
            timeout(ANSWER_TIME, database.store.commit(changes, again)).await.unwrap_or(Err(StoreError::Silent));
        let Err(why) = written else {
            database.carried_out(Asked::Journal);
            return true;
        };
        // The database may have done it all the same.
        again = true;
        database.failed(Asked::Journal, &why).await;
        if journal.closing.is_cancelled() && *last.get_or_insert_with(|| Instant::now() + LAST) <= Instant::now() {
            return false;
        }
        sleep(RETRY).await;
    }
}
