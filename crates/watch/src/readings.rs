//! One reading of everything that is measured.

use std::{collections::VecDeque, time::Instant};

use moorfall_broker::broker::Broker;
use moorfall_core::measure::{Measure, Quantile, Values};
use moorfall_live::counters::{TIMINGS, Times, no_times};

use crate::{
    process::{self, Busy},
    slow::Found,
};

/// Readings, one a second, over which quantiles are told.
const WINDOW: usize = 10;

/// The timings, in the order of the catalogue.
pub(crate) const TIMED: [Measure; TIMINGS] =
    [Measure::PublishToDeliver, Measure::PublishToAcknowledge, Measure::JournalCommit];

/// What is needed to read once more.
#[derive(Debug)]
pub(crate) struct Reader {
    /// Of each timing the times of the last seconds.
    lately: [VecDeque<Times>; TIMINGS],
    /// All times since the start.
    since_start: [Times; TIMINGS],
    busy: Busy,
}

impl Default for Reader {
    fn default() -> Self {
        Self { lately: Default::default(), since_start: std::array::from_fn(|_| no_times()), busy: Busy::default() }
    }
}

impl Reader {
    /// Reads everything; to be called once a second.
    pub(crate) fn read(&mut self, broker: &Broker, found: Found) -> Values {
        let mut values = broker.live.counters.read();
        self.read_gauges(&mut values, broker, found);
        for (place, timing) in TIMED.into_iter().enumerate() {
            let times = broker.live.counters.take_times(timing);
            self.since_start[place].add(&times).expect("all have the same bounds");
            let lately = &mut self.lately[place];
            lately.push_back(times);
            if lately.len() > WINDOW {
                lately.pop_front();
            }
            let mut window = no_times();
            lately.iter().for_each(|times| window.add(times).expect("all have the same bounds"));
            if !window.is_empty() {
                let seconds = |micros: u64| micros as f64 / 1e6;
                values.set_quantile(timing, Quantile::Median, seconds(window.value_at_quantile(0.5)));
                values.set_quantile(timing, Quantile::P99, seconds(window.value_at_quantile(0.99)));
                values.set_quantile(timing, Quantile::Longest, seconds(window.max()));
            }
        }
        values
    }

    /// All times of one timing since the start, microseconds.
    pub(crate) fn since_start(&self) -> &[Times; TIMINGS] {
        &self.since_start
    }

    fn read_gauges(&mut self, values: &mut Values, broker: &Broker, found: Found) {
        let sessions = &broker.sessions;
        let (connected, all) = (sessions.registry.connected(), sessions.registry.count());
        let (retained, retained_bytes) = sessions.router.retained_size();
        let mut set = |measure, value: usize| values.set(measure, value as f64);
        set(Measure::SessionsConnected, connected);
        set(Measure::SessionsAway, all.saturating_sub(connected));
        set(Measure::Subscriptions, sessions.router.subscription_count());
        set(Measure::SharedGroups, sessions.router.group_count());
        set(Measure::Retained, retained);
        set(Measure::RetainedBytes, retained_bytes);
        set(Measure::Topics, broker.live.topics.total(broker.now()).topics as usize);
        set(Measure::JournalBacklog, sessions.journal.backlog());
        set(Measure::JournalPromises, sessions.journal.promises());
        set(Measure::DatabaseUp, usize::from(broker.common.database.trouble().is_none()));
        values.set(Measure::DatabaseBehind, sessions.journal.behind().as_secs_f64());
        let links = broker.live.links.sums();
        values.set(Measure::BridgesUp, links.up as f64);
        values.set(Measure::BridgesDown, links.down as f64);
        values.set(Measure::BridgeWaiting, links.waiting as f64);
        values.set(Measure::BridgeWaitingBytes, links.bytes as f64);
        values.set(Measure::BridgeOldest, links.oldest.as_secs_f64());
        values.set(Measure::WorkerLag, found.lag.as_secs_f64());
        if let Some(bytes) = found.database_bytes {
            values.set(Measure::DatabaseBytes, bytes as f64);
        }
        if let Some(waiting) = found.waiting {
            values.set(Measure::Queued, waiting.messages as f64);
            values.set(Measure::QueuedBytes, waiting.bytes as f64);
            values.set(Measure::InFlight, waiting.in_flight as f64);
        }
        if let Some(usage) = process::usage() {
            values.set(Measure::MemoryBytes, usage.memory_bytes as f64);
            values.set(Measure::Descriptors, usage.descriptors as f64);
            values.set(Measure::DescriptorsLimit, usage.descriptors_limit as f64);
            if let Some(cores) = self.busy.since(Instant::now(), usage.cpu_seconds) {
                values.set(Measure::Cpu, cores);
            }
        }
    }
}
