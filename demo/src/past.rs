//! A week of numbers such as the broker would have measured, made up: ordinary days, two floods and a night in which a
//! contractor's pump kept asking for what it may not do.

use std::f64::consts::TAU;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

/// Minutes that are made up.
pub const MINUTES: i64 = 7 * 24 * 60;

/// Floods: the minute before now at which one was highest, and how much it added to what the stations send.
const FLOODS: [(f64, f64); 2] = [(4.6 * 1_440.0, 2.6), (1.3 * 1_440.0, 1.2)];

/// How long a flood takes to rise and to fall, minutes.
const RISE: (f64, f64) = (90.0, 260.0);

/// A minute of the past: the names of measures, of counters with the rate per second.
pub struct Minute {
    /// How many minutes before now it ended.
    pub ago: i64,
    /// Name and value.
    pub values: Vec<(&'static str, f32)>,
}

/// The past week, oldest first. The same seed and the same hour of the day give the same week.
pub fn past(seed: u64, hour_now: f64) -> impl Iterator<Item = Minute> {
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    (0..MINUTES).rev().map(move |ago| {
        let before = ago as f64;
        let hour = (hour_now - before / 60.0).rem_euclid(24.0);
        // People look at the river by day; the stations do not care.
        let day = (1.0 - (TAU * (hour - 3.0) / 24.0).cos()) / 2.0;
        let flood: f64 = FLOODS
            .iter()
            .map(|(highest, height)| {
                let since = highest - before;
                let width = if since < 0.0 { RISE.0 } else { RISE.1 };
                height * (-(since / width).powi(2)).exp()
            })
            .sum();
        let mut about = |value: f64, scatter: f64| value * (1.0 + scatter * (rng.random::<f64>() - 0.5));
        let messages_in = about(15.5 * (1.0 + flood), 0.12);
        let messages_out = messages_in * (1.55 + 0.5 * day);
        let is_night_of_pump = (2.05..2.35).contains(&(before / 1_440.0));
        let refused = if is_night_of_pump { about(0.45, 0.6) } else { about(0.05, 1.0) };
        let median = about(0.000_35 + 0.000_08 * flood, 0.3);
        Minute {
            ago,
            values: vec![
                ("messages_in", messages_in as f32),
                ("messages_out", messages_out as f32),
                ("bytes_in", (messages_in * about(104.0, 0.05)) as f32),
                ("bytes_out", (messages_out * about(101.0, 0.05)) as f32),
                ("refused", refused as f32),
                ("sessions_connected", (16.0 + (day * 3.0).round()) as f32),
                ("sessions_away", if about(1.0, 1.0) > 1.45 { 1.0 } else { 0.0 }),
                ("publish_to_deliver/median", median as f32),
                ("publish_to_deliver/p99", about(median * 4.0, 0.5) as f32),
                ("publish_to_acknowledge/median", about(median, 0.2) as f32),
            ],
        }
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(name: &str, week: &[Minute]) -> Vec<f32> {
        let value = |minute: &Minute| minute.values.iter().find(|(known, _)| *known == name).expect("it has it").1;
        week.iter().map(value).collect()
    }

    #[test]
    fn the_same_seed_gives_the_same_week_with_its_floods() {
        let week: Vec<Minute> = past(7, 9.5).collect();
        let again: Vec<Minute> = past(7, 9.5).collect();
        assert_eq!((week.len() as i64, week[0].ago, week.last().expect("a week").ago), (MINUTES, MINUTES - 1, 0));
        let rates = of("messages_in", &week);
        assert_eq!(rates, of("messages_in", &again));
        assert_ne!(rates, of("messages_in", &past(8, 9.5).collect::<Vec<_>>()));
        let highest = rates.iter().copied().fold(0.0, f32::max);
        let usual = rates[rates.len() - 1];
        assert!(highest > 3.0 * usual && usual > 10.0, "{highest}, {usual}");
        for name in week[0].values.iter().map(|(name, _)| name) {
            assert!(moorfall_core::measure::Series::named(name).is_some(), "{name}");
            assert!(of(name, &week).iter().all(|value| value.is_finite() && *value >= 0.0), "{name}");
        }
    }
}
