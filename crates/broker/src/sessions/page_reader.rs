//! Reads from the database what sessions are to be sent next and is not in memory, a page at a time.

use std::{sync::Arc, time::Duration};

use futures_util::{StreamExt, stream::poll_fn};
use moorfall_core::{Page, measure::Measure, session::Withheld};
use moorfall_live::journeys::Unsent;
use moorfall_store::{Asked, Database, StoreError};
use tokio::time::{sleep, timeout};
use tokio_util::sync::CancellationToken;

use crate::sessions::{Sessions, record::SessionRecord};

/// Pages that are read at a time, each over a connection to the database.
const AT_A_TIME: usize = 2;

/// How long one page may take before the database counts as away.
const ANSWER_TIME: Duration = Duration::from_secs(15);

/// Between two tries while the database is away.
const RETRY: Duration = Duration::from_millis(250);

/// Reads the pages that are asked for until the service stops. It is run once.
pub async fn run(sessions: Arc<Sessions>, database: Arc<Database>, stopping: CancellationToken) {
    let Some(mut wanted) = sessions.pager.wanted() else { return };
    let reading = poll_fn(|context| wanted.poll_recv(context))
        .for_each_concurrent(AT_A_TIME, |(record, page)| read(&sessions, record, page, &database));
    tokio::select! {
        () = reading => {}
        () = stopping.cancelled() => {}
    }
}

async fn read(sessions: &Sessions, record: Arc<SessionRecord>, page: Page, database: &Database) {
    // What is not written yet can't be read.
    sessions.journal.committed().await;
    let rows = loop {
        // Who is gone would only be read for in vain.
        if !record.is_connected() {
            database.carried_out(Asked::Queues);
            break None;
        }
        let read = database.store.deliveries(record.key, page);
        match timeout(ANSWER_TIME, read).await.unwrap_or(Err(StoreError::Silent)) {
            Ok(rows) => {
                database.carried_out(Asked::Queues);
                break Some(rows);
            }
            Err(why) => {
                database.failed(Asked::Queues, &why).await;
                sleep(RETRY).await;
            }
        }
    };
    let lost = record.read(page, rows);
    if !lost.is_empty() {
        let client = &*record.client_id;
        tracing::error!(
            client,
            messages = lost.len(),
            "the database does not have messages that wait for this session"
        );
        let count = sessions.forget(&record, &lost, || Unsent::Session(Withheld::Gone)) as u64;
        record.note_withheld(Withheld::Gone, count);
        sessions.live.counters.count_by(Measure::Withheld, Withheld::Gone, count);
    }
}
