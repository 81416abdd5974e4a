//! Counters that many tasks add to.

use std::{
    cell::Cell,
    sync::atomic::{AtomicU64, AtomicUsize, Ordering},
    thread::available_parallelism,
};

use crossbeam_utils::CachePadded;
use moorfall_core::{measure::Totals, measures};

/// What was counted since the last time that it was passed on; kept by one task, so that the shared counters are
/// touched once in a while and not once a message.
pub type Counts = Totals;

macro_rules! counters {
    ($($name:ident: $unit:ident, $words:literal;)+) => {
        /// Counters of one thing, added to by its task.
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

measures!(counters);

/// Counters of the whole service: one set for each core, so that tasks on different cores never write to the same
/// memory.
#[derive(Debug)]
pub struct PerCore(Box<[CachePadded<Counters>]>);

impl Default for PerCore {
    fn default() -> Self {
        let cores = available_parallelism().map_or(1, usize::from);
        Self((0..cores).map(|_| CachePadded::default()).collect())
    }
}

impl PerCore {
    /// Adds what was counted.
    pub fn add(&self, counts: &Counts) {
        self.0[thread_number() % self.0.len()].add(counts);
    }

    /// The sums so far; not of one moment.
    pub fn read(&self) -> Totals {
        let mut sum = Totals::default();
        self.0.iter().for_each(|counters| sum += counters.read());
        sum
    }
}

/// Counts the threads that count.
fn thread_number() -> usize {
    static NEXT: AtomicUsize = AtomicUsize::new(0);
    thread_local! {
        static NUMBER: Cell<Option<usize>> = const { Cell::new(None) };
    }
    NUMBER.with(|number| {
        let known = number.get().unwrap_or_else(|| NEXT.fetch_add(1, Ordering::Relaxed));
        number.set(Some(known));
        known
    })
}
