//! How many messages of a rate are still taken.

use std::time::Duration;

use crate::{Time, blueprint::Rate};

/// Messages that something with a rate still takes: as many as in its time, and never more at once.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Bucket {
    left: f64,
    at: Time,
}

impl Bucket {
    /// A full one.
    pub(crate) fn full(rate: Rate, now: Time) -> Self {
        Self { left: f64::from(rate.messages), at: now }
    }

    fn fill(&mut self, rate: Rate, now: Time) {
        let most = f64::from(rate.messages);
        let gained = (now - self.at).as_secs_f64() * most / rate.every.max(Duration::from_secs(1)).as_secs_f64();
        self.left = (self.left + gained).min(most);
        self.at = now;
    }

    /// Whether one more is taken.
    pub(crate) fn take(&mut self, rate: Rate, now: Time) -> bool {
        let may = self.has(rate, now);
        if may {
            self.left -= 1.0;
        }
        may
    }

    /// Whether one more would be taken.
    pub(crate) fn has(&mut self, rate: Rate, now: Time) -> bool {
        self.fill(rate, now);
        self.left >= 1.0
    }

    /// One more was taken, whether it was there or not.
    pub(crate) fn spend(&mut self, rate: Rate, now: Time) {
        self.fill(rate, now);
        self.left -= 1.0;
    }
}
