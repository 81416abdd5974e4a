//! Writes events to the database, keeps the newest ones in memory while it is away, and forgets old ones.

use std::{sync::Arc, time::Duration};

use moorfall_broker::{broker::Broker, clock::date};
use moorfall_live::{events::Event, facts::Fact};
use moorfall_store::{Asked, EventRecord, StoreError};
use time::OffsetDateTime;
use tokio::time::{Instant, MissedTickBehavior, interval, sleep, timeout};

/// Between two times that events are taken out.
const EVERY: Duration = Duration::from_millis(500);

/// Events that wait while the database is away; beyond it the oldest are lost.
const WAITING: usize = 10_000;

/// Events that are written at a time.
const TOGETHER: usize = 1_000;

/// How long one statement may take.
const ANSWER_TIME: Duration = Duration::from_secs(5);

/// Between two times that old events are looked for.
const FORGET_EVERY: Duration = Duration::from_secs(600);

/// Events that are forgotten at a time, and the pause behind them.
const FORGOTTEN: (i64, Duration) = (2_000, Duration::from_millis(100));

/// Writes events until the service stops, then those that are left. They are kept for `keep`.
pub async fn run(broker: Arc<Broker>, keep: Duration) {
    let mut waiting: Vec<EventRecord> = Vec::new();
    let mut ticks = interval(EVERY);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    let mut forgot: Option<Instant> = None;
    let mut trouble = None;
    loop {
        let is_over = tokio::select! {
            _ = ticks.tick() => false,
            () = broker.common.stopping.cancelled() => true,
        };
        note_database(&broker, &mut trouble);
        waiting.extend(broker.live.events.take(broker.now()).into_iter().map(record));
        let too_many = waiting.len().saturating_sub(WAITING);
        waiting.drain(..too_many);
        while !waiting.is_empty() {
            let some = waiting.len().min(TOGETHER);
            let written = timeout(ANSWER_TIME, broker.store().add_events(&waiting[..some])).await;
            match written.unwrap_or(Err(StoreError::Silent)) {
                Ok(()) => drop(waiting.drain(..some)),
                // A text that the database does not take must not hold up the others.
                Err(error) if error.is_about_data() => drop(waiting.drain(..some)),
                Err(error) => {
                    broker.common.database.failed(Asked::Events, &error).await;
                    break;
                }
            }
        }
        if waiting.is_empty() {
            broker.common.database.carried_out(Asked::Events);
        }
        if is_over {
            return;
        }
        if waiting.is_empty() && forgot.is_none_or(|at| at.elapsed() > FORGET_EVERY) {
            forgot = Some(Instant::now());
            forget(&broker, keep).await;
        }
    }
}

/// The database has gone, or is back.
fn note_database(broker: &Broker, before: &mut Option<String>) {
    let now = broker.common.database.trouble();
    match (&before, &now) {
        (None, Some(why)) => broker.live.note(&Fact::DatabaseAway { why: why.clone() }, broker.now()),
        (Some(_), None) => broker.live.note(&Fact::DatabaseBack, broker.now()),
        _ => {}
    }
    *before = now;
}

async fn forget(broker: &Broker, keep: Duration) {
    loop {
        let before = OffsetDateTime::now_utc() - keep;
        let gone = timeout(ANSWER_TIME, broker.store().forget_events(before, FORGOTTEN.0)).await;
        match gone.unwrap_or(Err(StoreError::Silent)) {
            Ok(gone) if gone >= FORGOTTEN.0.unsigned_abs() && !broker.common.stopping.is_cancelled() => {
                sleep(FORGOTTEN.1).await;
            }
            Ok(_) => return,
            Err(error) => return tracing::warn!(%error, "old events can't be removed"),
        }
    }
}

fn record(event: Event) -> EventRecord {
    let Event { at, kind, identity, client_id, address, subject, explanation, count } = event;
    EventRecord {
        id: 0,
        at: date(at),
        kind: <&str>::from(kind).to_owned(),
        identity: identity.to_string(),
        client_id,
        address: address.map(|address| address.to_canonical().to_string()).unwrap_or_default(),
        subject,
        explanation,
        times: i64::try_from(count).unwrap_or(i64::MAX),
    }
}
