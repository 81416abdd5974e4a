//! How the links of bridges are, summed up by who looks after them.

use std::sync::atomic::{AtomicU64, Ordering};

/// The sums.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct LinkSums {
    /// Bridges whose link is up.
    pub up: u64,
    /// Bridges whose link is down though they were not told to rest.
    pub down: u64,
    /// Messages that wait for them.
    pub waiting: u64,
    /// Their bytes.
    pub bytes: u64,
    /// How long the one has waited that waits longest, microseconds.
    pub oldest: u64,
}

/// The newest sums.
#[derive(Debug, Default)]
pub struct Links {
    up: AtomicU64,
    down: AtomicU64,
    waiting: AtomicU64,
    bytes: AtomicU64,
    oldest: AtomicU64,
}

impl Links {
    /// These are the newest.
    pub fn set(&self, sums: LinkSums) {
        let LinkSums { up, down, waiting, bytes, oldest } = sums;
        let all = [&self.up, &self.down, &self.waiting, &self.bytes, &self.oldest];
        for (place, value) in all.into_iter().zip([up, down, waiting, bytes, oldest]) {
            place.store(value, Ordering::Relaxed);
        }
    }

    /// The newest.
    pub fn get(&self) -> LinkSums {
        let read = |place: &AtomicU64| place.load(Ordering::Relaxed);
        LinkSums {
            up: read(&self.up),
            down: read(&self.down),
            waiting: read(&self.waiting),
            bytes: read(&self.bytes),
            oldest: read(&self.oldest),
        }
    }
}
