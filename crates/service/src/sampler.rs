//! Once a second: reads the counters, tells whoever looks on, and writes throughput samples to the database.

use std::{collections::VecDeque, sync::Arc, time::Duration};

use moorfall_core::{
    Time,
    measure::{Rates, Totals},
};
use moorfall_store::{Resolution, Sample};
use time::OffsetDateTime;
use tokio::time::{MissedTickBehavior, interval, timeout};

use crate::{
    api::{LiveReading, OPEN_WARNING},
    broker::Broker,
};

/// How long readings are kept for moving averages.
pub(crate) const HISTORY: Duration = Duration::from_secs(300);

/// The moving average that is shown as the rate.
pub(crate) const AVERAGE: Duration = Duration::from_secs(10);

/// Samples are written together, this many seconds' worth.
const WRITE_EVERY: usize = 5;

/// Samples kept while the database is away, one hour's worth; beyond it the oldest are let go and counted.
const KEPT: usize = 3_600;

/// How long one write may take.
const PATIENCE: Duration = Duration::from_secs(10);

/// Old samples are forgotten once in so many seconds.
const FORGET_EVERY: u64 = 3_600;

/// An open broker is warned of once in so many seconds.
const WARN_EVERY: u64 = 600;

/// Runs until the service stops; then what was not written yet is written.
pub(crate) async fn run(broker: Arc<Broker>) {
    if broker.open {
        tracing::warn!("{OPEN_WARNING}");
    }
    let mut sampler = Sampler::new(&broker);
    let mut ticks = interval(Duration::from_secs(1));
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    ticks.tick().await;
    let mut seconds = 0_u64;
    loop {
        tokio::select! {
            _ = ticks.tick() => {}
            () = broker.stopping.cancelled() => break,
        }
        sampler.sample(&broker);
        seconds += 1;
        if sampler.seconds.len() >= WRITE_EVERY || !sampler.minutes.is_empty() {
            sampler.write(&broker).await;
        }
        if broker.open && seconds.is_multiple_of(WARN_EVERY) {
            tracing::warn!("{OPEN_WARNING}");
        }
        if seconds.is_multiple_of(FORGET_EVERY)
            && let Err(error) = broker.store.forget_old_samples().await
        {
            tracing::warn!(%error, "old throughput samples could not be removed");
        }
    }
    sampler.sample(&broker);
    sampler.finish_minute(&broker);
    sampler.write(&broker).await;
}

/// A reading of the counters and when it was taken.
#[derive(Clone, Copy)]
struct Reading {
    at: Time,
    totals: Totals,
}

impl Reading {
    fn take(broker: &Broker) -> Self {
        Self { at: broker.clock.now(), totals: broker.counters.read() }
    }

    /// What was carried since `earlier`.
    fn since(&self, earlier: &Self, sessions: usize) -> Sample {
        let count = |from: u64, to: u64| i64::try_from(to.saturating_sub(from)).unwrap_or(i64::MAX);
        Sample {
            at: OffsetDateTime::now_utc(),
            span_seconds: (self.at - earlier.at).as_secs_f64().max(1e-6),
            sessions: i64::try_from(sessions).unwrap_or(i64::MAX),
            messages_in: count(earlier.totals.messages_in, self.totals.messages_in),
            messages_out: count(earlier.totals.messages_out, self.totals.messages_out),
            bytes_in: count(earlier.totals.bytes_in, self.totals.bytes_in),
            bytes_out: count(earlier.totals.bytes_out, self.totals.bytes_out),
        }
    }
}

struct Sampler {
    last: Reading,
    minute: Reading,
    seconds: VecDeque<Sample>,
    minutes: VecDeque<Sample>,
    lost: u64,
}

impl Sampler {
    fn new(broker: &Broker) -> Self {
        let now = Reading::take(broker);
        broker.history.lock().add(now.at, now.totals);
        Self { last: now, minute: now, seconds: VecDeque::new(), minutes: VecDeque::new(), lost: 0 }
    }

    fn sample(&mut self, broker: &Broker) {
        let now = Reading::take(broker);
        let sessions = broker.registry.count();
        let sample = now.since(&self.last, sessions);
        let rates = Rates::between(&self.last.totals, &now.totals, now.at - self.last.at);
        let averages = {
            let mut history = broker.history.lock();
            history.add(now.at, now.totals);
            history.average(AVERAGE)
        };
        // Nobody may be looking on.
        let _ = broker.live.send(LiveReading::new(sample.at, sessions, rates, averages, now.totals));
        self.last = now;
        self.seconds.push_back(sample);
        if now.at - self.minute.at >= Duration::from_secs(60) {
            self.finish_minute(broker);
        }
        for queue in [&mut self.seconds, &mut self.minutes] {
            while queue.len() > KEPT {
                queue.pop_front();
                self.lost += 1;
            }
        }
    }

    fn finish_minute(&mut self, broker: &Broker) {
        if self.last.at > self.minute.at {
            self.minutes.push_back(self.last.since(&self.minute, broker.registry.count()));
            self.minute = self.last;
        }
    }

    /// Writes what waits; on failure it goes on waiting, and the service's health says why.
    async fn write(&mut self, broker: &Broker) {
        for (resolution, queue) in [(Resolution::Second, &mut self.seconds), (Resolution::Minute, &mut self.minutes)] {
            if queue.is_empty() {
                continue;
            }
            let written = timeout(PATIENCE, broker.store.add_samples(resolution, queue.make_contiguous())).await;
            let trouble = match written {
                Ok(Ok(())) => None,
                Ok(Err(error)) => Some(error.to_string()),
                Err(_) => Some("it does not answer".to_owned()),
            };
            let mut known = broker.database_trouble.lock();
            match (&trouble, known.is_some()) {
                (Some(words), false) => tracing::error!("the database is away, samples wait: {words}"),
                (None, true) => tracing::info!(lost = self.lost, "the database is back"),
                _ => {}
            }
            known.clone_from(&trouble);
            if trouble.is_some() {
                return;
            }
            queue.clear();
        }
    }
}
