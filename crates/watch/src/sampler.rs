//! Once a second: reads everything, tells whoever looks on, and hands a span of every ten seconds to history.

use std::{collections::VecDeque, sync::Arc, time::Duration};

use moorfall_broker::broker::Broker;
use moorfall_contract::readings::Yesterday;
use moorfall_core::{
    Time,
    measure::{Averages, Measure, Rates, Series, Totals, Values, WINDOWS},
};
use moorfall_live::counters::Times;
use moorfall_store::Resolution;
use parking_lot::Mutex;
use time::OffsetDateTime;
use tokio::{
    sync::{broadcast, mpsc::Sender},
    time::{MissedTickBehavior, interval},
};

use crate::{
    history::{self, Measured, WAITING},
    readings::{Reader, TIMED},
    slow::{self, Found},
};

/// The moving average that is shown as the rate.
const AVERAGE: Duration = Duration::from_secs(10);

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
    /// Over [`WINDOWS`], each with the time over which it was taken.
    pub averages: [(Rates, Duration); 3],
    /// How it was at this time yesterday.
    pub yesterday: Option<Yesterday>,
}

/// What was read of one broker lately.
#[derive(Debug)]
pub struct Watch {
    averages: Mutex<Averages>,
    reader: Mutex<Reader>,
    latest: Mutex<Arc<Values>>,
    /// What takes long to find out.
    found: Arc<Mutex<Found>>,
    /// Spans of the last hour, written to the database or not.
    recent: Mutex<VecDeque<Measured>>,
    readings: broadcast::Sender<Reading>,
}

impl Default for Watch {
    fn default() -> Self {
        Self {
            averages: Mutex::default(),
            reader: Mutex::default(),
            latest: Mutex::default(),
            found: Arc::default(),
            recent: Mutex::default(),
            readings: broadcast::channel(16).0,
        }
    }
}

impl Watch {
    /// What comes from now on.
    pub fn readings(&self) -> broadcast::Receiver<Reading> {
        self.readings.subscribe()
    }

    /// The rates over [`AVERAGE`].
    pub fn average(&self) -> Rates {
        self.averages.lock().over(AVERAGE).0
    }

    /// The rates over [`WINDOWS`], each with the time over which it was taken.
    pub fn averages(&self) -> [(Rates, Duration); 3] {
        let averages = self.averages.lock();
        WINDOWS.map(|window| averages.over(window))
    }

    /// The newest reading of everything.
    pub fn latest(&self) -> Arc<Values> {
        Arc::clone(&self.latest.lock())
    }

    /// All times of each timing since the start, microseconds.
    pub fn each_timing(&self, mut each: impl FnMut(Measure, &Times)) {
        let reader = self.reader.lock();
        TIMED.into_iter().zip(reader.since_start()).for_each(|(timing, times)| each(timing, times));
    }

    /// The values of one series in spans that ended after this time and by that one, with the ends; oldest first.
    pub fn recent(&self, series: Series, (after, by): (OffsetDateTime, OffsetDateTime)) -> Vec<(OffsetDateTime, f32)> {
        let Some(place) = history::kept().position(|kept| kept == series) else { return Vec::new() };
        let recent = self.recent.lock();
        let wanted = recent.iter().filter(|span| span.at > after && span.at <= by);
        wanted.map(|span| (span.at, span.values[place])).filter(|(_, value)| !value.is_nan()).collect()
    }
}

/// Reads everything each second until the service stops. Its end closes the channel, and so ends history's writer.
pub async fn run(broker: Arc<Broker>, watch: Arc<Watch>, spans: Sender<Measured>) {
    broker.common.tasks.spawn(slow::run(Arc::clone(&broker), Arc::clone(&watch.found)));
    let mut sampler = Sampler::new(&broker, watch, spans);
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
}

/// Everything, and when it was read.
struct Stand {
    at: Time,
    values: Arc<Values>,
}

struct Sampler {
    last: Stand,
    /// What was read when the span began that is being measured.
    began: Arc<Values>,
    /// Its number: of ten seconds since 1970.
    span: i64,
    watch: Arc<Watch>,
    spans: Sender<Measured>,
    /// Spans that history had no room for since it last had.
    lost: u64,
}

/// The number of the span that a time lies in.
fn span_of(at: OffsetDateTime) -> i64 {
    at.unix_timestamp().div_euclid(Resolution::TenSeconds.seconds().into())
}

/// The beginning of a span.
fn beginning(span: i64) -> OffsetDateTime {
    let seconds = span * i64::from(Resolution::TenSeconds.seconds());
    OffsetDateTime::from_unix_timestamp(seconds).unwrap_or(OffsetDateTime::UNIX_EPOCH)
}

impl Sampler {
    fn new(broker: &Broker, watch: Arc<Watch>, spans: Sender<Measured>) -> Self {
        let values = Arc::new(broker.live.counters.read());
        let now = Stand { at: broker.now(), values };
        watch.averages.lock().add(now.at, now.values.totals());
        let span = span_of(OffsetDateTime::now_utc());
        Self { began: Arc::clone(&now.values), last: now, span, watch, spans, lost: 0 }
    }

    fn sample(&mut self, broker: &Broker) {
        let at = OffsetDateTime::now_utc();
        let found = *self.watch.found.lock();
        let values = Arc::new(self.watch.reader.lock().read(broker, found));
        *self.watch.latest.lock() = Arc::clone(&values);
        let now = Stand { at: broker.now(), values };
        let totals = now.values.totals();
        let rates = totals.since(&self.last.values.totals()).over(now.at - self.last.at);
        let average = {
            let mut averages = self.watch.averages.lock();
            averages.add(now.at, totals);
            averages.over(AVERAGE).0
        };
        let averages = self.watch.averages();
        let sessions = broker.sessions.registry.connected();
        // Nobody may be looking on.
        let _ = self.watch.readings.send(Reading {
            at,
            sessions,
            rates,
            average,
            totals,
            averages,
            yesterday: found.yesterday,
        });
        self.last = now;
        let span = span_of(at);
        if span > self.span {
            self.finish_span(span);
        } else if span < self.span {
            // The clock was put back; what follows begins anew.
            self.span = span;
            self.began = Arc::clone(&self.last.values);
        }
    }

    fn finish_span(&mut self, next: i64) {
        let values = history::measure(&self.began, &self.last.values);
        self.keep(Measured { at: beginning(next), values, after_lost: false });
        self.span = next;
        self.began = Arc::clone(&self.last.values);
    }

    /// Measuring never waits for the database.
    fn keep(&mut self, measured: Measured) {
        {
            let mut recent = self.watch.recent.lock();
            recent.push_back(measured.clone());
            if recent.len() > WAITING {
                recent.pop_front();
            }
        }
        let after_lost = self.lost > 0;
        if self.spans.try_send(Measured { after_lost, ..measured }).is_err() {
            self.lost += 1;
        } else if after_lost {
            tracing::warn!(spans = self.lost, "history lost while the database was unavailable, ten seconds each");
            self.lost = 0;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spans_begin_at_whole_tens_of_seconds() {
        let at = OffsetDateTime::from_unix_timestamp(1_780_000_019).unwrap();
        assert_eq!(span_of(at), 178_000_001);
        assert_eq!(beginning(178_000_002), at + Duration::from_secs(1));
        assert_eq!(span_of(beginning(178_000_002)), 178_000_002);
    }
}
