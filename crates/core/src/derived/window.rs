//! Values of a while, made into one.

use std::{collections::VecDeque, time::Duration};

use serde::{Deserialize, Serialize};

use crate::{
    Time,
    blueprint::{Statistic, Window},
};

/// Pieces that a window is kept in: what is told is of its time, and of a piece more at most.
const PIECES: u32 = 60;

/// The values of a piece of time.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
struct Piece {
    /// When the first and the last of them came, microseconds.
    from: u64,
    to: u64,
    count: u64,
    sum: f64,
    least: f64,
    greatest: f64,
    first: f64,
    last: f64,
}

/// Values of a while: as many as came, in a bounded number of pieces.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(transparent)]
pub(super) struct Values(VecDeque<Piece>);

impl Values {
    /// One more has come.
    pub(super) fn add(&mut self, window: Window, value: f64, now: Time) {
        let at = now.as_micros();
        let piece = micros(window.span / PIECES).max(1);
        self.forget(window, now);
        match self.0.back_mut().filter(|back| at.saturating_sub(back.from) < piece) {
            Some(back) => {
                back.to = at;
                back.count += 1;
                back.sum += value;
                back.least = back.least.min(value);
                back.greatest = back.greatest.max(value);
                back.last = value;
            }
            None => self.0.push_back(Piece {
                from: at,
                to: at,
                count: 1,
                sum: value,
                least: value,
                greatest: value,
                first: value,
                last: value,
            }),
        }
    }

    /// Lets go of what is older than the window.
    pub(super) fn forget(&mut self, window: Window, now: Time) {
        let since = now.as_micros().saturating_sub(micros(window.span));
        while self.0.front().is_some_and(|front| front.to < since) {
            self.0.pop_front();
        }
    }

    /// When the oldest of them are older than the window; `None` if there are none.
    pub(super) fn ends(&self, window: Window) -> Option<Time> {
        self.0.front().map(|front| Time::from_micros(front.to.saturating_add(micros(window.span)).saturating_add(1)))
    }

    /// What is told of them; `None` while there is too little for it. Of none there is a count and a sum, 0.
    pub(super) fn tell(&self, statistic: Statistic) -> Option<f64> {
        let count: u64 = self.0.iter().map(|piece| piece.count).sum();
        let sum = || self.0.iter().map(|piece| piece.sum).sum::<f64>();
        #[allow(clippy::cast_precision_loss, reason = "nobody counts so far")]
        let told = match statistic {
            Statistic::Count => count as f64,
            Statistic::Sum => sum(),
            Statistic::Mean => sum() / count as f64,
            Statistic::Least => self.0.iter().map(|piece| piece.least).fold(f64::INFINITY, f64::min),
            Statistic::Greatest => self.0.iter().map(|piece| piece.greatest).fold(f64::NEG_INFINITY, f64::max),
            Statistic::Rate => {
                let (first, last) = (self.0.front()?, self.0.back()?);
                let passed = last.to.saturating_sub(first.from);
                if passed == 0 {
                    return None;
                }
                (last.last - first.first) / (passed as f64 / 1e6)
            }
        };
        (count > 0 || matches!(statistic, Statistic::Count | Statistic::Sum)).then_some(told)
    }
}

fn micros(time: Duration) -> u64 {
    u64::try_from(time.as_micros()).unwrap_or(u64::MAX)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn window(statistic: Statistic) -> Window {
        Window { statistic, span: Duration::from_secs(60) }
    }

    fn at(seconds: f64) -> Time {
        #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "small and above 0")]
        Time::from_micros((seconds * 1e6) as u64)
    }

    fn told(values: &[(f64, f64)], statistic: Statistic) -> Option<f64> {
        let mut kept = Values::default();
        values.iter().for_each(|(seconds, value)| kept.add(window(statistic), *value, at(*seconds)));
        kept.tell(statistic)
    }

    #[test]
    fn each_statistic_is_of_the_values_of_its_time() {
        let values = [(0.0, 100.0), (50.0, 1.0), (70.0, 3.0), (80.0, 2.0)];
        for (statistic, expected) in [
            (Statistic::Mean, 2.0),
            (Statistic::Least, 1.0),
            (Statistic::Greatest, 3.0),
            (Statistic::Sum, 6.0),
            (Statistic::Count, 3.0),
            (Statistic::Rate, 1.0 / 30.0),
        ] {
            assert_eq!(told(&values, statistic), Some(expected), "{statistic}");
        }
        assert_eq!(told(&values[..1], Statistic::Rate), None, "of one value there is no rate");
        assert_eq!((told(&[], Statistic::Count), told(&[], Statistic::Sum)), (Some(0.0), Some(0.0)));
        for statistic in [Statistic::Mean, Statistic::Least, Statistic::Greatest, Statistic::Rate] {
            assert_eq!(told(&[], statistic), None, "{statistic}");
        }
    }

    proptest! {
        /// However many come, what is kept is bounded, and what is told is of all within the window and of none that is
        /// older than a piece more.
        #[test]
        fn what_is_told_is_of_the_window(steps in proptest::collection::vec((0.0_f64..5.0, -10_i32..10), 1..300)) {
            let mut kept = Values::default();
            let mut all = Vec::new();
            let mut now = 0.0;
            for (step, value) in steps {
                now += step;
                all.push((now, f64::from(value)));
                kept.add(window(Statistic::Count), f64::from(value), at(now));
                let within = |seconds: f64| all.iter().filter(|(at, _)| *at >= now - seconds).count() as f64;
                let told = kept.tell(Statistic::Count).unwrap();
                prop_assert!(within(60.0 - 0.001) <= told && told <= within(61.001), "{} of {:?}", told, all);
                prop_assert!(kept.0.len() <= PIECES as usize + 2);
            }
        }
    }
}
