//! Counters and times that many tasks add to.

use std::{
    cell::Cell,
    sync::atomic::{AtomicU64, AtomicUsize, Ordering},
    thread::available_parallelism,
    time::Duration,
};

use crossbeam_utils::CachePadded;
use hdrhistogram::Histogram;
use moorfall_core::{
    measure::{COUNTERS, Kind, Label, Measure, Totals, Values},
    measures,
};
use parking_lot::Mutex;

/// What was counted since the last time that it was passed on; kept by one task, so that the counters of its session are
/// touched once in a while and not once a message.
pub type Counts = Totals;

macro_rules! main_counters {
    (
        flows { $($name:ident $Name:ident: $unit:ident by $by:ident, $kept:ident, $words:literal;)+ }
        $($rest:tt)*
    ) => {
        /// The main counters of one thing, added to by its task.
        #[derive(Debug, Default)]
        pub struct Counters {
            $($name: AtomicU64,)+
        }

        impl Counters {
            /// Adds what was counted.
            pub fn add(&self, counts: &Counts) {
                let add = |counter: &AtomicU64, count: u64| {
                    if count > 0 {
                        counter.fetch_add(count, Ordering::Relaxed);
                    }
                };
                $(add(&self.$name, counts.$name);)+
            }

            /// The sums so far; not of one moment.
            pub fn read(&self) -> Totals {
                Totals { $($name: self.$name.load(Ordering::Relaxed),)+ }
            }
        }
    };
}

measures!(main_counters);

/// The main counters of one thing that tasks on all cores add to.
#[derive(Debug)]
pub struct SharedCounters(Box<[CachePadded<Counters>]>);

impl Default for SharedCounters {
    fn default() -> Self {
        Self((0..slots()).map(|_| CachePadded::default()).collect())
    }
}

impl SharedCounters {
    /// Adds what was counted.
    pub fn add(&self, counts: &Counts) {
        self.0[slot(self.0.len())].add(counts);
    }

    /// The sums so far; not of one moment.
    pub fn read(&self) -> Totals {
        let mut sum = Totals::default();
        self.0.iter().for_each(|counters| sum += counters.read());
        sum
    }
}

/// The longest time that is told apart from longer ones, microseconds: ten minutes.
const LONGEST: u64 = 600_000_000;

/// Times that were taken, microseconds, to two digits.
pub type Times = Histogram<u64>;

/// No times yet.
pub fn no_times() -> Times {
    Times::new_with_bounds(1, LONGEST, 2).expect("the bounds are good")
}

/// How many kinds of times are taken.
pub const TIMINGS: usize = Measure::ALL.len() - Measure::PublishToDeliver as usize;

/// What one thread counts.
#[derive(Debug)]
struct Slot {
    counts: [AtomicU64; COUNTERS],
    times: [Mutex<Times>; TIMINGS],
}

impl Default for Slot {
    fn default() -> Self {
        Self { counts: [const { AtomicU64::new(0) }; COUNTERS], times: std::array::from_fn(|_| Mutex::new(no_times())) }
    }
}

/// What the whole service counts: a slot for each thread that works for long, so that no two write to the same memory;
/// threads that come and go share the last one. Summed when they are read.
#[derive(Debug)]
pub struct PerThread(Box<[CachePadded<Slot>]>);

impl Default for PerThread {
    fn default() -> Self {
        Self((0..slots()).map(|_| CachePadded::default()).collect())
    }
}

impl PerThread {
    /// Counts what is not told apart by anything.
    pub fn count(&self, measure: Measure, count: u64) {
        debug_assert!(measure.kind() == Kind::Counter && measure.by().labels().is_empty());
        self.add(measure.first(), count);
    }

    /// Counts what goes by a label.
    pub fn count_by<L: Label>(&self, measure: Measure, label: L, count: u64) {
        debug_assert_eq!(measure.kind(), Kind::Counter);
        self.add(measure.place(label), count);
    }

    fn add(&self, place: usize, count: u64) {
        let slot = slot(self.0.len());
        let counter = &self.0[slot].counts[place];
        if slot + 1 < self.0.len() {
            // No other thread writes here.
            counter.store(counter.load(Ordering::Relaxed) + count, Ordering::Relaxed);
        } else {
            counter.fetch_add(count, Ordering::Relaxed);
        }
    }

    /// So many things took so long.
    pub fn time(&self, timing: Measure, span: Duration, count: u64) {
        debug_assert_eq!(timing.kind(), Kind::Timing);
        let micros = u64::try_from(span.as_micros()).unwrap_or(u64::MAX).max(1);
        let times = &self.0[slot(self.0.len())].times[timing as usize - Measure::PublishToDeliver as usize];
        times.lock().saturating_record_n(micros, count);
    }

    /// All counts so far; not of one moment.
    pub fn read(&self) -> Values {
        let mut sums = vec![0; COUNTERS];
        for slot in &self.0 {
            for (sum, counter) in sums.iter_mut().zip(&slot.counts) {
                *sum += counter.load(Ordering::Relaxed);
            }
        }
        Values::of(sums)
    }

    /// Takes out the times that were taken since the last call.
    pub fn take_times(&self, timing: Measure) -> Times {
        let mut all = no_times();
        for slot in &self.0 {
            let mut times = slot.times[timing as usize - Measure::PublishToDeliver as usize].lock();
            all.add(&*times).expect("all have the same bounds");
            times.reset();
        }
        all
    }
}

/// One for each core, and one for all threads that came too late.
fn slots() -> usize {
    available_parallelism().map_or(1, usize::from) + 1
}

/// The slot of this thread, of so many.
fn slot(slots: usize) -> usize {
    static NEXT: AtomicUsize = AtomicUsize::new(0);
    thread_local! {
        static NUMBER: Cell<usize> = const { Cell::new(usize::MAX) };
    }
    let known = NUMBER.get();
    let number = if known == usize::MAX { NEXT.fetch_add(1, Ordering::Relaxed) } else { known };
    if known == usize::MAX {
        NUMBER.set(number);
    }
    number.min(slots - 1)
}

#[cfg(test)]
mod tests {
    use std::thread;

    use moorfall_wire::QoS;

    use super::*;

    #[test]
    fn what_any_number_of_threads_count_is_summed() {
        let counters = PerThread::default();
        thread::scope(|scope| {
            for _ in 0..4 * slots() {
                scope.spawn(|| {
                    for _ in 0..1_000 {
                        counters.count_by(Measure::MessagesIn, QoS::AtLeastOnce, 2);
                        counters.time(Measure::JournalCommit, Duration::from_millis(3), 1);
                    }
                });
            }
        });
        let threads = 4 * slots() as u64;
        let values = counters.read();
        assert_eq!(values.totals(), Totals { messages_in: threads * 2_000, ..Totals::default() });
        let times = counters.take_times(Measure::JournalCommit);
        assert_eq!((times.len(), times.max()), (threads * 1_000, times.highest_equivalent(3_000)));
        assert!(counters.take_times(Measure::JournalCommit).is_empty(), "they were taken out");
        assert!(counters.take_times(Measure::PublishToDeliver).is_empty());
    }
}
