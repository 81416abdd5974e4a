//! Counters, and rates made of them.

use std::{collections::VecDeque, ops::AddAssign, time::Duration};

use serde::Serialize;

use crate::Time;

/// What the broker has counted since it started. Counters only grow.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Totals {
    /// Messages accepted from clients, wills included.
    pub messages_in: u64,
    /// PUBLISH packets sent to clients.
    pub messages_out: u64,
    /// Bytes read from clients.
    pub bytes_in: u64,
    /// Bytes written to clients.
    pub bytes_out: u64,
    /// Messages that were routed to a session and not sent: queue full, too large, expired, not allowed.
    pub withheld: u64,
    /// Attempts to publish or subscribe that were refused.
    pub refused: u64,
}

impl AddAssign for Totals {
    fn add_assign(&mut self, other: Self) {
        self.messages_in += other.messages_in;
        self.messages_out += other.messages_out;
        self.bytes_in += other.bytes_in;
        self.bytes_out += other.bytes_out;
        self.withheld += other.withheld;
        self.refused += other.refused;
    }
}

/// Rates over a span, each per second.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize)]
pub struct Rates {
    /// Messages in per second.
    pub messages_in: f64,
    /// Messages out per second.
    pub messages_out: f64,
    /// Bytes in per second.
    pub bytes_in: f64,
    /// Bytes out per second.
    pub bytes_out: f64,
}

impl Rates {
    /// The mean rates between two readings of the counters.
    pub fn between(earlier: &Totals, later: &Totals, span: Duration) -> Self {
        let seconds = span.as_secs_f64();
        if seconds <= 0.0 {
            return Self::default();
        }
        let rate = |from: u64, to: u64| to.saturating_sub(from) as f64 / seconds;
        Self {
            messages_in: rate(earlier.messages_in, later.messages_in),
            messages_out: rate(earlier.messages_out, later.messages_out),
            bytes_in: rate(earlier.bytes_in, later.bytes_in),
            bytes_out: rate(earlier.bytes_out, later.bytes_out),
        }
    }
}

/// Readings of the counters over the last while, for moving averages.
#[derive(Debug)]
pub struct History {
    readings: VecDeque<(Time, Totals)>,
    span: Duration,
}

impl History {
    /// Keeps readings for `span`.
    pub fn new(span: Duration) -> Self {
        Self { readings: VecDeque::new(), span }
    }

    /// Adds a reading; readings older than the span are forgotten.
    pub fn add(&mut self, now: Time, totals: Totals) {
        self.readings.push_back((now, totals));
        while self.readings.front().is_some_and(|(at, _)| now - *at > self.span) {
            self.readings.pop_front();
        }
    }

    /// The moving average over the last `window`, or over what there is if that is less.
    pub fn average(&self, window: Duration) -> Rates {
        let Some((now, latest)) = self.readings.back() else { return Rates::default() };
        let earliest = self.readings.iter().find(|(at, _)| *now - *at <= window);
        earliest.map_or_else(Rates::default, |(at, totals)| Rates::between(totals, latest, *now - *at))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn reading(messages_in: u64) -> Totals {
        Totals { messages_in, ..Totals::default() }
    }

    #[test]
    fn the_average_moves_with_its_window() {
        let mut history = History::new(Duration::from_secs(60));
        assert_eq!(history.average(Duration::from_secs(10)), Rates::default());
        for second in 0..=20_u64 {
            let count = if second <= 10 { second * 100 } else { 1_000 + (second - 10) * 10 };
            history.add(Time::from_micros(second * 1_000_000), reading(count));
        }
        assert_eq!(history.average(Duration::from_secs(5)).messages_in, 10.0);
        assert_eq!(history.average(Duration::from_secs(20)).messages_in, 55.0);
        assert_eq!(history.average(Duration::from_secs(600)).messages_in, 55.0, "no more than there is");
    }

    #[test]
    fn old_readings_are_forgotten() {
        let mut history = History::new(Duration::from_secs(2));
        for second in 0..100 {
            history.add(Time::from_micros(second * 1_000_000), reading(second));
        }
        assert_eq!(history.readings.len(), 3);
    }
}
