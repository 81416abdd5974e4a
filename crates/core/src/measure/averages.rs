//! Moving averages of the main rates.

use std::{collections::VecDeque, time::Duration};

use super::values::{Rates, Totals};
use crate::Time;

/// The windows that moving averages are shown over.
pub const WINDOWS: [Duration; 3] = [Duration::from_secs(60), Duration::from_secs(300), Duration::from_secs(900)];

/// Readings of the main counters over the longest of the windows.
///
/// An average is what was counted between the newest reading and the last one that is as old as the window, by the time
/// between the two. As long as the readings do not fill the window it is taken over what there is, so that it is right
/// from the second reading on: a rate of the time since the start, not one that grows as the window fills.
#[derive(Debug, Default)]
pub struct Averages {
    readings: VecDeque<(Time, Totals)>,
}

impl Averages {
    /// Adds a reading; of those that are older than the longest window the newest is enough.
    pub fn add(&mut self, now: Time, totals: Totals) {
        self.readings.push_back((now, totals));
        while self.readings.get(1).is_some_and(|(at, _)| now - *at >= WINDOWS[2]) {
            self.readings.pop_front();
        }
    }

    /// The rates over the last `window`, and over how much of it they were taken.
    pub fn over(&self, window: Duration) -> (Rates, Duration) {
        let Some((now, latest)) = self.readings.back() else { return Default::default() };
        let begun = self.readings.partition_point(|(at, _)| *now - *at >= window);
        let (at, earliest) = &self.readings[begun.saturating_sub(1)];
        (latest.since(earliest).over(*now - *at), *now - *at)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(second: u64) -> Time {
        Time::from_micros(second * 1_000_000)
    }

    fn reading(messages_in: u64) -> Totals {
        Totals { messages_in, ..Totals::default() }
    }

    fn over(averages: &Averages, seconds: u64) -> (f64, u64) {
        let (rates, span) = averages.over(Duration::from_secs(seconds));
        (rates.messages_in, span.as_secs())
    }

    /// 100 messages a second for 20 min, then 700 a second for 3 min, then nothing: by hand, at each full minute.
    #[test]
    fn averages_over_one_five_and_fifteen_minutes_are_those_worked_out_by_hand() {
        let mut averages = Averages::default();
        let mut count = 0;
        for second in 0..=1_800 {
            count += match second {
                0 => 0,
                1..=1_200 => 100,
                1_201..=1_380 => 700,
                _ => 0,
            };
            averages.add(at(second), reading(count));
            let (one, five, fifteen) = (over(&averages, 60), over(&averages, 300), over(&averages, 900));
            match second {
                30 => assert_eq!((one, five, fifteen), ((100.0, 30), (100.0, 30), (100.0, 30))),
                240 => assert_eq!((one, five, fifteen), ((100.0, 60), (100.0, 240), (100.0, 240))),
                1_200 => assert_eq!((one, five, fifteen), ((100.0, 60), (100.0, 300), (100.0, 900))),
                // 60 s of 700: (240 × 100 + 60 × 700) / 300 = 220; (840 × 100 + 60 × 700) / 900 = 140.
                1_260 => assert_eq!((one, five, fifteen), ((700.0, 60), (220.0, 300), (140.0, 900))),
                // 180 s of 700 and 60 s of nothing: (60 × 100 + 180 × 700) / 300 = 440.
                1_440 => assert_eq!((one, five, fifteen), ((0.0, 60), (440.0, 300), (213.33333333333334, 900))),
                // 120 s of 700 are left in the five minutes: 280.
                1_560 => assert_eq!((one, five), ((0.0, 60), (280.0, 300))),
                1_800 => assert_eq!((one, five, fifteen), ((0.0, 60), (0.0, 300), (173.33333333333334, 900))),
                _ => {}
            }
        }
        assert_eq!(averages.readings.len(), 901);
    }

    #[test]
    fn readings_that_came_late_are_no_higher_rate() {
        let mut averages = Averages::default();
        assert_eq!(over(&averages, 60), (0.0, 0));
        averages.add(at(0), reading(0));
        assert_eq!(over(&averages, 60), (0.0, 0));
        averages.add(at(10), reading(50));
        averages.add(at(100), reading(500));
        assert_eq!(over(&averages, 60), (5.0, 90), "from the last reading that is as old as the window");
    }
}
