//! Values of measures at one moment, and the main ones by name.

use std::{ops::AddAssign, time::Duration};

use serde::{Deserialize, Serialize};

use super::{
    catalogue::{COUNTERS, Kind, Measure, SERIES, Series},
    labels::{Label, Quantile},
};
use crate::measures;

macro_rules! totals_and_rates {
    (
        flows { $($name:ident $Name:ident: $unit:ident by $by:ident, $kept:ident, $words:literal;)+ }
        $($rest:tt)*
    ) => {
        /// The main counters, which each session and listener has, too. They only grow.
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

        impl Values {
            /// The main counters.
            pub fn totals(&self) -> Totals {
                Totals { $($name: self.count(Measure::$Name.into()),)+ }
            }
        }
    };
}

measures!(totals_and_rates);

/// All measures at one moment. A value may be missing: nothing was timed, or it is not known yet.
#[derive(Clone, Debug)]
pub struct Values {
    counts: Vec<u64>,
    /// Gauges and quantiles; not a number where there is none.
    levels: Vec<f64>,
}

impl Default for Values {
    fn default() -> Self {
        Self { counts: vec![0; COUNTERS], levels: vec![f64::NAN; SERIES - COUNTERS] }
    }
}

impl Values {
    /// With these counts, one for each place of a counter.
    ///
    /// # Panics
    /// If there are more or fewer.
    pub fn of(counts: Vec<u64>) -> Self {
        assert_eq!(counts.len(), COUNTERS);
        Self { counts, ..Self::default() }
    }

    /// A gauge has this value.
    pub fn set(&mut self, gauge: Measure, value: f64) {
        debug_assert_eq!(gauge.kind(), Kind::Gauge);
        self.levels[gauge.first() - COUNTERS] = value;
    }

    /// A quantile of what was timed, seconds.
    pub fn set_quantile(&mut self, timing: Measure, quantile: Quantile, seconds: f64) {
        self.levels[timing.first() + quantile.place() - COUNTERS] = seconds;
    }

    /// How much a counter has counted; 0 of what is none.
    pub fn count(&self, series: Series) -> u64 {
        self.counts.get(series.places()).map_or(0, |counts| counts.iter().sum())
    }

    /// The value of any series, if it has one.
    pub fn value(&self, series: Series) -> Option<f64> {
        match series.measure().kind() {
            Kind::Counter => Some(self.count(series) as f64),
            Kind::Gauge | Kind::Timing => {
                Some(self.levels[series.places().start - COUNTERS]).filter(|value| !value.is_nan())
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use moorfall_wire::QoS;

    use super::*;

    #[test]
    fn values_are_read_by_series() {
        let mut counts = vec![0; COUNTERS];
        counts[Measure::MessagesIn.place(QoS::AtMostOnce)] = 5;
        counts[Measure::MessagesIn.place(QoS::ExactlyOnce)] = 2;
        let mut values = Values::of(counts);
        values.set(Measure::SessionsConnected, 19.0);
        values.set_quantile(Measure::JournalCommit, Quantile::P99, 0.25);
        let value = |name: &str| values.value(Series::named(name).unwrap());
        assert_eq!(values.totals(), Totals { messages_in: 7, ..Totals::default() });
        assert_eq!(
            (value("messages_in"), value("messages_in/2"), value("messages_in/1")),
            (Some(7.0), Some(2.0), Some(0.0))
        );
        assert_eq!((value("sessions_connected"), value("queued")), (Some(19.0), None));
        assert_eq!((value("journal_commit/p99"), value("journal_commit")), (Some(0.25), None));
    }
}
