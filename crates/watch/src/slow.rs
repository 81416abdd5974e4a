//! What takes long to find out, found out beside the readings: what waits for all sessions, the size of the database,
//! how late tasks get their turn, and how it was yesterday.

use std::{collections::VecDeque, sync::Arc, time::Duration};

use moorfall_broker::broker::Broker;
use moorfall_contract::readings::Yesterday;
use moorfall_core::measure::Measure;
use moorfall_store::{Resolution, StoreError};
use parking_lot::Mutex;
use time::OffsetDateTime;
use tokio::time::{Instant, MissedTickBehavior, interval, sleep, sleep_until, timeout};

/// Sessions that are looked at in one go.
const PAGE: usize = 512;

/// Between two goes: 100,000 sessions take less than ten seconds.
const PAUSE: Duration = Duration::from_millis(40);

/// Between the beginnings of two walks.
const WALK_EVERY: Duration = Duration::from_secs(1);

/// Between two looks at the size of the database.
const SIZE_EVERY: Duration = Duration::from_secs(60);

/// How long the database may take to say its size.
const ANSWER_TIME: Duration = Duration::from_secs(5);

/// A day, and how much of yesterday is looked at around this time.
const DAY: Duration = Duration::from_secs(86_400);
const AROUND: Duration = Duration::from_secs(300);

/// Between two looks at how late a timer is.
const LAG_EVERY: Duration = Duration::from_millis(100);

/// Over which time the longest delay is told.
const LAG_SPAN: Duration = Duration::from_secs(10);

/// What was found out last.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Found {
    /// Messages that wait, their bytes, and messages in flight, of all sessions.
    pub waiting: Option<Waiting>,
    /// Size of the database, bytes.
    pub database_bytes: Option<u64>,
    /// The longest that a task had to wait for its turn lately.
    pub lag: Duration,
    /// How it was at this time yesterday.
    pub yesterday: Option<Yesterday>,
}

/// What waits for sessions.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Waiting {
    /// Messages that are to be sent.
    pub messages: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Messages that were sent and are not acknowledged.
    pub in_flight: u64,
}

/// Finds out until the service stops.
pub(crate) async fn run(broker: Arc<Broker>, found: Arc<Mutex<Found>>) {
    let stopping = broker.common.stopping.clone();
    let all = async {
        tokio::join!(
            walk(&broker, &found),
            measure_database(&broker, &found),
            watch_lag(&found),
            look_at_yesterday(&broker, &found)
        );
    };
    let stopped = stopping.run_until_cancelled(all).await;
    debug_assert!(stopped.is_none(), "none of them ends by itself");
}

async fn walk(broker: &Broker, found: &Mutex<Found>) {
    loop {
        let next = Instant::now() + WALK_EVERY;
        let mut sum = Waiting::default();
        let mut after: Option<String> = None;
        loop {
            let page = broker.sessions.registry.page(after.as_deref(), PAGE);
            for record in &page {
                let (messages, bytes) = record.waiting();
                sum.messages += messages as u64;
                sum.bytes += bytes as u64;
                broker.sessions.look_at(record);
                sum.in_flight += record.in_flight.load(std::sync::atomic::Ordering::Relaxed) as u64;
            }
            if page.len() < PAGE {
                break;
            }
            after = page.last().map(|last| last.client_id.clone());
            sleep(PAUSE).await;
        }
        found.lock().waiting = Some(sum);
        sleep_until(next).await;
    }
}

async fn measure_database(broker: &Broker, found: &Mutex<Found>) {
    loop {
        let asked = timeout(ANSWER_TIME, broker.store().size()).await.unwrap_or(Err(StoreError::Silent));
        // While it is away its last size stands.
        if let Ok(bytes) = asked {
            found.lock().database_bytes = Some(bytes);
        }
        sleep(SIZE_EVERY).await;
    }
}

async fn look_at_yesterday(broker: &Broker, found: &Mutex<Found>) {
    loop {
        let asked = timeout(ANSWER_TIME, yesterday(broker)).await.unwrap_or(Err(StoreError::Silent));
        found.lock().yesterday = asked.unwrap_or_default();
        sleep(SIZE_EVERY).await;
    }
}

/// Means of five minutes a day ago; `None` if nothing was measured then.
async fn yesterday(broker: &Broker) -> Result<Option<Yesterday>, StoreError> {
    let from = OffsetDateTime::now_utc() - DAY - AROUND / 2;
    let mean = async |measure: Measure| {
        let range = (from, from + AROUND);
        let step = AROUND.as_secs() as u32;
        let points = broker.store().history(measure.name(), Resolution::Minute, range, step).await?;
        Ok::<_, StoreError>(points.first().map(|point| point.mean))
    };
    let Some(sessions) = mean(Measure::SessionsConnected).await? else { return Ok(None) };
    Ok(Some(Yesterday {
        sessions,
        messages_in: mean(Measure::MessagesIn).await?.unwrap_or_default(),
        messages_out: mean(Measure::MessagesOut).await?.unwrap_or_default(),
        refused: mean(Measure::Refused).await?.unwrap_or_default(),
    }))
}

async fn watch_lag(found: &Mutex<Found>) {
    let mut ticks = interval(LAG_EVERY);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    let mut late = VecDeque::new();
    loop {
        let due = ticks.tick().await;
        let now = Instant::now();
        late.push_back((now, now - due));
        while late.front().is_some_and(|(at, _)| now - *at > LAG_SPAN) {
            late.pop_front();
        }
        found.lock().lag = late.iter().map(|(_, late)| *late).max().unwrap_or_default();
    }
}
