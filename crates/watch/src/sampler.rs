//! Once a second: reads the counters, tells whoever looks on, and hands throughput samples to their writer.

use std::{collections::VecDeque, sync::Arc, time::Duration};

use moorfall_broker::broker::Broker;
use moorfall_core::{
    Time,
    measure::{History, Rates, Totals},
};
use moorfall_store::{Resolution, Sample};
use parking_lot::Mutex;
use time::OffsetDateTime;
use tokio::{
    sync::{broadcast, mpsc::Sender},
    time::{MissedTickBehavior, interval},
};

/// How long readings are kept for moving averages.
const HISTORY: Duration = Duration::from_secs(300);

/// The moving average that is shown as the rate.
const AVERAGE: Duration = Duration::from_secs(10);

/// Samples that stay in memory for the chart, half an hour's worth: the newest are not written yet.
const RECENT: usize = 1_800;

/// One reading of the counters, with what they mean a second.
#[derive(Clone, Debug)]
pub struct Reading {
    /// When they were read.
    pub at: OffsetDateTime,
    /// Connected sessions.
    pub sessions: usize,
    /// Over the last second.
    pub rates: Rates,
    /// Over [`AVERAGE`].
    pub average: Rates,
    /// Since the start.
    pub totals: Totals,
}

/// What was read of one broker lately.
#[derive(Debug)]
pub struct Watch {
    history: Mutex<History>,
    /// Samples of the last while, written to the database or not.
    recent: Mutex<VecDeque<(Resolution, Sample)>>,
    readings: broadcast::Sender<Reading>,
}

impl Default for Watch {
    fn default() -> Self {
        let history = Mutex::new(History::new(HISTORY));
        Self { history, recent: Mutex::default(), readings: broadcast::channel(16).0 }
    }
}

impl Watch {
    /// What comes from now on.
    pub fn readings(&self) -> broadcast::Receiver<Reading> {
        self.readings.subscribe()
    }

    /// The rates over [`AVERAGE`].
    pub fn average(&self) -> Rates {
        self.history.lock().average(AVERAGE)
    }

    /// Samples behind this time.
    pub fn recent(&self, resolution: Resolution, after: OffsetDateTime) -> Vec<Sample> {
        let recent = self.recent.lock();
        let wanted = recent.iter().filter(|(kind, sample)| *kind == resolution && sample.at > after);
        wanted.map(|(_, sample)| sample.clone()).collect()
    }
}

/// Reads the counters each second until the service stops. Its end closes the channel, and so ends the writer.
pub async fn run(broker: Arc<Broker>, watch: Arc<Watch>, samples: Sender<(Resolution, Sample)>) {
    let mut sampler = Sampler::new(&broker, watch, samples);
    let mut ticks = interval(Duration::from_secs(1));
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    ticks.tick().await;
    loop {
        tokio::select! {
            _ = ticks.tick() => {}
            () = broker.common.stopping.cancelled() => break,
        }
        sampler.sample(&broker);
    }
    sampler.sample(&broker);
    sampler.finish_minute(&broker);
}

/// The counters and when they were read.
#[derive(Clone, Copy)]
struct Stand {
    at: Time,
    totals: Totals,
}

impl Stand {
    fn take(broker: &Broker) -> Self {
        Self { at: broker.now(), totals: broker.live.counters.read() }
    }

    /// What was carried since `earlier`.
    fn since(&self, earlier: &Self, sessions: usize) -> Sample {
        // As precise as the database, so that a sample is the same there and in memory.
        let at = OffsetDateTime::now_utc();
        Sample {
            at: at.replace_microsecond(at.microsecond()).unwrap_or(at),
            span_seconds: (self.at - earlier.at).as_secs_f64().max(1e-6),
            sessions: i64::try_from(sessions).unwrap_or(i64::MAX),
            counts: self.totals.since(&earlier.totals),
        }
    }
}

struct Sampler {
    last: Stand,
    minute: Stand,
    watch: Arc<Watch>,
    samples: Sender<(Resolution, Sample)>,
    /// Samples that the writer had no room for since it last had.
    lost: u64,
}

impl Sampler {
    fn new(broker: &Broker, watch: Arc<Watch>, samples: Sender<(Resolution, Sample)>) -> Self {
        let now = Stand::take(broker);
        watch.history.lock().add(now.at, now.totals);
        Self { last: now, minute: now, watch, samples, lost: 0 }
    }

    fn sample(&mut self, broker: &Broker) {
        let now = Stand::take(broker);
        let sessions = broker.sessions.registry.connected();
        let sample = now.since(&self.last, sessions);
        let rates = now.totals.since(&self.last.totals).over(now.at - self.last.at);
        let average = {
            let mut history = self.watch.history.lock();
            history.add(now.at, now.totals);
            history.average(AVERAGE)
        };
        // Nobody may be looking on.
        let reading = Reading { at: sample.at, sessions, rates, average, totals: now.totals };
        let _ = self.watch.readings.send(reading);
        self.last = now;
        self.keep(Resolution::Second, sample);
        if now.at - self.minute.at >= Duration::from_secs(60) {
            self.finish_minute(broker);
        }
    }

    fn finish_minute(&mut self, broker: &Broker) {
        if self.last.at > self.minute.at {
            let sample = self.last.since(&self.minute, broker.sessions.registry.connected());
            self.minute = self.last;
            self.keep(Resolution::Minute, sample);
        }
    }

    /// Sampling never waits for the database.
    fn keep(&mut self, resolution: Resolution, sample: Sample) {
        {
            let mut recent = self.watch.recent.lock();
            recent.push_back((resolution, sample.clone()));
            if recent.len() > RECENT {
                recent.pop_front();
            }
        }
        if self.samples.try_send((resolution, sample)).is_err() {
            self.lost += 1;
        } else if self.lost > 0 {
            tracing::warn!(lost = self.lost, "throughput samples lost while the database was unavailable");
            self.lost = 0;
        }
    }
}
