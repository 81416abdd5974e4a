//! The river's weather and water, as plain computation. One second of the demo is one minute on the river.

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use serde_json::{Value, json};
use time::{Duration, OffsetDateTime, format_description::well_known::Rfc3339, macros::datetime};

/// What a station has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Instrument {
    /// Rain gauge: `rain/depth`, millimetres since the last reading.
    Rain,
    /// Level sensor: `stage/level`, metres.
    Level,
    /// A second level sensor: `stage-2/level`.
    SecondLevel,
    /// Flow: `flow/rate`, cubic metres per second.
    Flow,
    /// Two pumps: `pump-1/power` and `pump-2/power`, kilowatts.
    Pumps,
    /// A gate: `gate/position`, percent open, retained; it follows `gate/target`.
    Gate,
}

/// A place at the river.
#[derive(Clone, Copy, Debug)]
pub struct Station {
    /// Its name, which is its identity and its client identifier.
    pub name: &'static str,
    /// The stretch of the river.
    pub reach: &'static str,
    /// What it has.
    pub instruments: &'static [Instrument],
    /// Level in dry weather, metres.
    base: f64,
}

use Instrument::{Flow, Gate, Level, Pumps, Rain, SecondLevel};

/// All stations, downstream.
pub const STATIONS: &[Station] = &[
    Station { name: "cold-tor", reach: "high-moor", instruments: &[Rain], base: 0.0 },
    Station { name: "sallow-head", reach: "high-moor", instruments: &[Rain], base: 0.0 },
    Station { name: "raven-stone", reach: "high-moor", instruments: &[Rain, Level], base: 0.4 },
    Station { name: "kettle-weir", reach: "gorge", instruments: &[Level, SecondLevel, Gate], base: 1.6 },
    Station { name: "nine-arches", reach: "gorge", instruments: &[Level, Flow], base: 1.2 },
    Station { name: "otter-pool", reach: "gorge", instruments: &[Level], base: 2.1 },
    Station { name: "withy-drain", reach: "meadows", instruments: &[Level, Pumps], base: 0.9 },
    Station { name: "long-acre", reach: "meadows", instruments: &[Level, Pumps], base: 0.8 },
    Station { name: "mill-meadow", reach: "meadows", instruments: &[Level, Flow], base: 1.1 },
    Station { name: "willow-bank", reach: "meadows", instruments: &[Level], base: 1.0 },
    Station { name: "ferry-stage", reach: "tidal", instruments: &[Level], base: 2.4 },
    Station { name: "salt-marsh", reach: "tidal", instruments: &[Level], base: 2.2 },
    Station { name: "gull-point", reach: "tidal", instruments: &[Level], base: 2.5 },
    Station { name: "barrier", reach: "tidal", instruments: &[Level, Gate], base: 2.6 },
];

/// The reaches, downstream.
pub(crate) const REACHES: [&str; 4] = ["high-moor", "gorge", "meadows", "tidal"];

/// One measurement.
#[derive(Clone, Debug, PartialEq)]
pub struct Reading {
    /// Instrument and reading, the last two levels of the topic.
    pub place: &'static str,
    /// The payload.
    pub payload: Value,
}

/// The river at one moment.
#[derive(Clone, Debug)]
pub struct River {
    random: ChaCha8Rng,
    /// Minutes since the story began.
    minute: u64,
    /// Rain on the moor, millimetres per hour.
    rain: f64,
    /// Extra height of each reach, metres.
    extra: [f64; 4],
}

impl River {
    /// The minutes of one round of the weather: drizzle, a storm, and drying off.
    const ROUND: u64 = 240;

    /// The river in dry weather.
    pub fn new(seed: u64) -> Self {
        Self { random: ChaCha8Rng::seed_from_u64(seed), minute: 0, rain: 0.0, extra: [0.0; 4] }
    }

    /// One minute passes.
    pub fn step(&mut self) {
        self.minute += 1;
        let storm = match self.minute % Self::ROUND {
            at @ 60..=120 => (std::f64::consts::PI * (at - 60) as f64 / 60.0).sin() * 28.0,
            _ => 0.0,
        };
        self.rain = (1.5 + storm + self.random.random_range(-1.0..1.0)).max(0.0);
        // Each reach fills from the one above and drains into the one below, so a storm runs down the river.
        let mut inflow = self.rain * 0.0035;
        for extra in &mut self.extra {
            *extra += inflow - *extra * 0.06;
            inflow = *extra * 0.06;
        }
    }

    /// The time on the river.
    pub fn time(&self) -> OffsetDateTime {
        datetime!(2031-03-02 06:00 UTC) + Duration::minutes(i64::try_from(self.minute).unwrap_or(i64::MAX))
    }

    /// The time on the river as payloads carry it (RFC 3339).
    pub fn timestamp(&self) -> String {
        self.time().format(&Rfc3339).unwrap_or_default()
    }

    /// How wild it is, from 0 (dry) to 1 (the height of the storm).
    pub fn wildness(&self) -> f64 {
        (self.rain / 30.0).clamp(0.0, 1.0)
    }

    /// The level at a station, metres.
    pub fn level(&self, station: &Station) -> f64 {
        let reach = REACHES.iter().position(|reach| *reach == station.reach).unwrap_or(0);
        let tide = if station.reach == "tidal" {
            (self.minute as f64 * std::f64::consts::TAU / 745.0).sin() * 1.4
        } else {
            0.0
        };
        station.base + self.extra[reach] + tide
    }

    /// What a station measures now. A gate is no measurement: it is told by whoever moves it.
    pub fn readings(&mut self, station: &Station) -> Vec<Reading> {
        let at = self.timestamp();
        let level = self.level(station);
        let mut readings = Vec::new();
        for instrument in station.instruments {
            let noise = self.random.random_range(-0.01..0.01);
            let mut add = |place, unit: &str, value: f64, digits: i32| {
                let scale = 10_f64.powi(digits);
                let value = (value * scale).round() / scale;
                readings.push(Reading { place, payload: json!({ unit: value, "at": at, "quality": "good" }) });
            };
            match instrument {
                Rain => add("rain/depth", "mm", (self.rain / 60.0 + noise).max(0.0), 2),
                Level => add("stage/level", "m", level + noise, 2),
                SecondLevel => add("stage-2/level", "m", level + 0.02 + noise, 2),
                Flow => add("flow/rate", "m3s", (level * 4.2).powf(1.3) + noise, 1),
                Pumps => {
                    let load = ((level - station.base) * 60.0).clamp(0.0, 75.0);
                    add("pump-1/power", "kw", if load > 5.0 { 15.0 + load / 2.0 + noise } else { 0.0 }, 1);
                    add("pump-2/power", "kw", if load > 30.0 { load / 2.0 + noise } else { 0.0 }, 1);
                }
                Gate => {}
            }
        }
        readings
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn highest(station: &str) -> (u64, f64) {
        let station = STATIONS.iter().find(|known| known.name == station).expect("a station");
        let mut river = River::new(7);
        let mut highest = (0, 0.0);
        for minute in 1..=River::ROUND {
            river.step();
            let extra = river.level(station) - station.base;
            if extra > highest.1 {
                highest = (minute, extra);
            }
        }
        highest
    }

    #[test]
    fn the_same_seed_tells_the_same_story() {
        let story = |seed| {
            let mut river = River::new(seed);
            (0..50)
                .flat_map(|_| {
                    river.step();
                    river.readings(&STATIONS[3])
                })
                .collect::<Vec<_>>()
        };
        assert_eq!(story(7), story(7));
        assert_ne!(story(7), story(8));
    }

    #[test]
    fn the_storm_raises_the_levels_in_order_down_the_river() {
        let peaks = ["raven-stone", "nine-arches", "mill-meadow"].map(highest);
        assert!(peaks.windows(2).all(|pair| pair[0].0 < pair[1].0), "{peaks:?}");
        assert!(peaks.iter().all(|(_, extra)| *extra > 0.3), "{peaks:?}");
    }
}
