//! The catalogue of what is measured, and rates made of it.
//!
//! A measure stands in one place, [`measures!`]: counters, samples, readings, the interface and its description are made
//! from it, so that another one is another line there.

use std::{collections::VecDeque, ops::AddAssign, time::Duration};

use serde::{Deserialize, Serialize};

use crate::Time;

/// Hands the catalogue to a macro: of each measure its field, its unit and what it says, for people.
#[macro_export]
macro_rules! measures {
    ($then:ident) => {
        $then! {
            messages_in: Messages, "Messages accepted from clients, Will Messages included.";
            messages_out: Messages, "Messages sent to clients.";
            bytes_in: Bytes, "Bytes read from clients.";
            bytes_out: Bytes, "Bytes written to clients.";
            withheld: Messages, "Messages that were routed to a session and not sent: queue full, too large, expired, denied.";
            refused: Attempts, "Attempts to publish or subscribe that were refused.";
        }
    };
}

/// What a measure counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Unit {
    /// Messages.
    Messages,
    /// Bytes.
    Bytes,
    /// Attempts.
    Attempts,
}

/// A measure: it grows from the start of the service on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Measure {
    /// Its name.
    pub name: &'static str,
    /// What it counts.
    pub unit: Unit,
    /// What it says, in a sentence.
    pub explanation: &'static str,
}

macro_rules! totals_and_rates {
    ($($name:ident: $unit:ident, $words:literal;)+) => {
        /// All measures, in the order in which they are shown.
        pub const MEASURES: &[Measure] =
            &[$(Measure { name: stringify!($name), unit: Unit::$unit, explanation: $words }),+];

        /// What the broker has counted since it started. Counters only grow.
        #[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
        #[serde(default)]
        pub struct Totals {
            $(#[doc = $words] pub $name: u64,)+
        }

        impl AddAssign for Totals {
            fn add_assign(&mut self, other: Self) {
                $(self.$name += other.$name;)+
            }
        }

        impl Totals {
            /// What was counted since `earlier`.
            #[must_use]
            pub fn since(&self, earlier: &Self) -> Self {
                Self { $($name: self.$name.saturating_sub(earlier.$name),)+ }
            }

            /// In this time, a second.
            pub fn over(&self, span: Duration) -> Rates {
                let seconds = span.as_secs_f64();
                let rate = |count: u64| if seconds > 0.0 { count as f64 / seconds } else { 0.0 };
                Rates { $($name: rate(self.$name),)+ }
            }
        }

        /// Rates over a span, each per second.
        #[derive(Clone, Copy, Debug, Default, PartialEq, Serialize)]
        pub struct Rates {
            $(#[doc = $words] pub $name: f64,)+
        }
    };
}

measures!(totals_and_rates);

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
        earliest.map_or_else(Rates::default, |(at, totals)| latest.since(totals).over(*now - *at))
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
