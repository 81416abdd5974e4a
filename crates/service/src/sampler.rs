//! Once a second: reads the counters, tells whoever looks on, and hands throughput samples to their writer.

use std::{sync::Arc, time::Duration};

use moorfall_core::{
    Time,
    measure::{Rates, Totals},
};
use moorfall_store::{Resolution, Sample};
use time::OffsetDateTime;
use tokio::{
    sync::mpsc::Sender,
    time::{MissedTickBehavior, interval},
};

use crate::{
    api::{LiveReading, OPEN_WARNING},
    broker::Broker,
};

/// How long readings are kept for moving averages.
pub(crate) const HISTORY: Duration = Duration::from_secs(300);

/// The moving average that is shown as the rate.
pub(crate) const AVERAGE: Duration = Duration::from_secs(10);

/// Samples that stay in memory for the chart, half an hour's worth: the newest are not written yet.
const RECENT: usize = 1_800;

/// An open broker is warned of once in so many seconds.
const WARN_EVERY: u64 = 600;

/// Runs until the service stops. Its end closes the channel, and so ends the writer.
pub(crate) async fn run(broker: Arc<Broker>, samples: Sender<(Resolution, Sample)>) {
    if broker.open {
        tracing::warn!("{OPEN_WARNING}");
    }
    let mut sampler = Sampler::new(&broker, samples);
    let mut ticks = interval(Duration::from_secs(1));
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    ticks.tick().await;
    for second in 1_u64.. {
        tokio::select! {
            _ = ticks.tick() => {}
            () = broker.stopping.cancelled() => break,
        }
        sampler.sample(&broker);
        broker.topics.sum_up(broker.clock.now());
        broker.recorder.keep_time(broker.clock.now());
        for left in broker.bench.take_left(broker.clock.now()) {
            broker.tasks.spawn(async move { left.client.disconnect().await });
        }
        if broker.open && second.is_multiple_of(WARN_EVERY) {
            tracing::warn!("{OPEN_WARNING}");
        }
    }
    sampler.sample(&broker);
    sampler.finish_minute(&broker);
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
        // As precise as the database, so that a sample is the same there and in memory.
        let at = OffsetDateTime::now_utc();
        Sample {
            at: at.replace_microsecond(at.microsecond()).unwrap_or(at),
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
    samples: Sender<(Resolution, Sample)>,
    /// Samples that the writer had no room for since it last had.
    lost: u64,
}

impl Sampler {
    fn new(broker: &Broker, samples: Sender<(Resolution, Sample)>) -> Self {
        let now = Reading::take(broker);
        broker.history.lock().add(now.at, now.totals);
        Self { last: now, minute: now, samples, lost: 0 }
    }

    fn sample(&mut self, broker: &Broker) {
        let now = Reading::take(broker);
        let sessions = broker.registry.connected();
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
        self.keep(broker, Resolution::Second, sample);
        if now.at - self.minute.at >= Duration::from_secs(60) {
            self.finish_minute(broker);
        }
    }

    fn finish_minute(&mut self, broker: &Broker) {
        if self.last.at > self.minute.at {
            let sample = self.last.since(&self.minute, broker.registry.connected());
            self.minute = self.last;
            self.keep(broker, Resolution::Minute, sample);
        }
    }

    /// Sampling never waits for the database.
    fn keep(&mut self, broker: &Broker, resolution: Resolution, sample: Sample) {
        {
            let mut recent = broker.recent.lock();
            recent.push_back((resolution, sample.clone()));
            if recent.len() > RECENT {
                recent.pop_front();
            }
        }
        if self.samples.try_send((resolution, sample)).is_err() {
            self.lost += 1;
        } else if self.lost > 0 {
            tracing::warn!(lost = self.lost, "throughput samples were lost while the database was away");
            self.lost = 0;
        }
    }
}
