//! When a value is out of its band for long enough to be told, and back for long enough to be told again.
//!
//! One [`Standing`] belongs to one subject of one alert: to a measure, or to each topic that an alert is about. Whoever
//! looks on observes values, asks what is due to be told, and says that it was.

use std::time::Duration;

use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr};

use crate::Time;

/// Raised so often within [`Terms::flap_time`], a standing flaps.
pub const FLAPS: usize = 3;

/// The shortest time in which a standing flaps.
const FLAP_TIME: Duration = Duration::from_secs(300);

/// What values should be.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Band {
    /// No less than this.
    pub low: Option<f64>,
    /// No more than this.
    pub high: Option<f64>,
}

impl Band {
    /// Whether a value is outside.
    pub fn is_out(&self, value: f64) -> bool {
        self.low.is_some_and(|low| value < low) || self.high.is_some_and(|high| value > high)
    }

    /// How far a value is outside; 0 inside.
    fn distance(&self, value: f64) -> f64 {
        let below = self.low.map_or(0.0, |low| low - value);
        let above = self.high.map_or(0.0, |high| value - high);
        below.max(above).max(0.0)
    }
}

/// When something is told of a band.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Terms {
    /// What values should be.
    pub band: Band,
    /// How long a value must be out.
    pub out_for: Duration,
    /// How long it must be back.
    pub back_for: Duration,
}

impl Terms {
    /// In which time a standing flaps if it is raised [`FLAPS`] times, and how long it must then be back before it is
    /// cleared: five minutes, or ten times as long as going out and coming back takes at least.
    pub fn flap_time(&self) -> Duration {
        FLAP_TIME.max((self.out_for + self.back_for) * 10)
    }
}

/// Where a standing is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, IntoStaticStr, EnumString)]
#[strum(serialize_all = "kebab-case")]
pub enum Phase {
    /// In the band.
    #[default]
    Ok,
    /// Out of it, and not yet for long enough.
    Pending,
    /// Back in it, and not yet for long enough.
    Clearing,
    /// Out of it.
    Raised,
}

/// What is to be told.
#[derive(Clone, Copy, Debug, PartialEq, Eq, IntoStaticStr, EnumString, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum Telling {
    /// It is out.
    Raised,
    /// It is back.
    Cleared,
}

/// How one subject of an alert stands.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Standing {
    /// Where.
    pub phase: Phase,
    /// Since when.
    pub since: Time,
    /// When it went out of the band, as long as it is not [`Phase::Ok`]; then of the last time that it was raised.
    pub out_since: Option<Time>,
    /// The last value.
    pub value: Option<f64>,
    /// The value that was furthest out since it is.
    pub worst: Option<f64>,
    /// When it was raised lately, oldest first: [`FLAPS`] times at most.
    pub raises: Vec<Time>,
    /// Whether it is raised again and again.
    pub flapping: bool,
    /// Whether the last that was told is that it is out.
    pub told: bool,
}

impl Standing {
    /// One of which nothing is known yet.
    pub fn new(now: Time) -> Self {
        Self { since: now, ..Self::default() }
    }

    /// Whether it is raised, or was and is not cleared.
    pub fn is_raised(&self) -> bool {
        matches!(self.phase, Phase::Raised | Phase::Clearing)
    }

    /// Takes a value, or the last one again, since time matters; gives where it was before if that has
    /// changed.
    pub fn observe(&mut self, terms: &Terms, value: f64, now: Time) -> Option<Phase> {
        self.value = Some(value);
        let is_out = terms.band.is_out(value);
        let before = self.phase;
        if is_out && self.phase != Phase::Ok && terms.band.distance(value) > self.worst_distance(terms) {
            self.worst = Some(value);
        }
        match (self.phase, is_out) {
            (Phase::Ok, true) => {
                (self.out_since, self.worst) = (Some(now), Some(value));
                self.enter(Phase::Pending, now);
            }
            (Phase::Pending, false) => self.enter(Phase::Ok, now),
            (Phase::Raised, false) => self.enter(Phase::Clearing, now),
            (Phase::Clearing, true) => self.enter(Phase::Raised, now),
            _ => {}
        }
        if self.phase == Phase::Pending && now - self.since >= terms.out_for {
            self.raise(terms, now);
        }
        let back_for = if self.flapping { terms.back_for.max(terms.flap_time()) } else { terms.back_for };
        if self.phase == Phase::Clearing && now - self.since >= back_for {
            self.flapping = false;
            self.enter(Phase::Ok, now);
        }
        (self.phase != before).then_some(before)
    }

    fn worst_distance(&self, terms: &Terms) -> f64 {
        self.worst.map_or(-1.0, |worst| terms.band.distance(worst))
    }

    fn enter(&mut self, phase: Phase, now: Time) {
        (self.phase, self.since) = (phase, now);
    }

    fn raise(&mut self, terms: &Terms, now: Time) {
        self.enter(Phase::Raised, now);
        self.raises.retain(|at| now - *at < terms.flap_time());
        self.raises.push(now);
        self.flapping = self.raises.len() >= FLAPS;
        if self.raises.len() > FLAPS {
            self.raises.remove(0);
        }
    }

    /// What is to be told now.
    pub fn due(&self) -> Option<Telling> {
        match (self.is_raised(), self.told) {
            (true, false) => Some(Telling::Raised),
            (false, true) => Some(Telling::Cleared),
            _ => None,
        }
    }

    /// What was due is told.
    pub fn set_told(&mut self) {
        self.told = self.is_raised();
    }
}

/// A time for which values of the past would have been out of a band, from the moment on that it would have been told.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Spell {
    /// The first value that was out.
    pub out_since: Time,
    /// When it would have been raised.
    pub raised_at: Time,
    /// When it would have been cleared; `None` if it would not have been by the last value.
    pub cleared_at: Option<Time>,
    /// The value that was furthest out.
    pub worst: f64,
    /// Whether it would have been raised again and again.
    pub flapping: bool,
}

/// Goes through values of the past, oldest first, and gives when they would have been told, oldest first.
pub fn rehearse(terms: &Terms, values: impl IntoIterator<Item = (Time, f64)>) -> Vec<Spell> {
    let mut standing = Standing::default();
    let mut spells: Vec<Spell> = Vec::new();
    for (at, value) in values {
        standing.observe(terms, value, at);
        let telling = standing.due();
        standing.set_told();
        if telling == Some(Telling::Raised) {
            let out_since = standing.out_since.unwrap_or(at);
            spells.push(Spell { out_since, raised_at: at, cleared_at: None, worst: value, flapping: false });
        }
        let Some(spell) = spells.last_mut().filter(|spell| spell.cleared_at.is_none()) else { continue };
        spell.worst = standing.worst.unwrap_or(value);
        spell.flapping |= standing.flapping;
        if telling == Some(Telling::Cleared) {
            spell.cleared_at = Some(at);
        }
    }
    spells
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const HIGH: Band = Band { low: None, high: Some(2.4) };

    fn terms(out: u64, back: u64) -> Terms {
        Terms { band: HIGH, out_for: Duration::from_secs(out), back_for: Duration::from_secs(back) }
    }

    fn at(second: u64) -> Time {
        Time::from_micros(second * 1_000_000)
    }

    /// Observes a value each second from `from` on, and tells what is due; gives what was told, and when.
    fn play(standing: &mut Standing, terms: &Terms, from: u64, values: &[f64]) -> Vec<(u64, Telling)> {
        let mut told = Vec::new();
        for (second, value) in values.iter().enumerate() {
            let now = from + second as u64;
            standing.observe(terms, *value, at(now));
            if let Some(telling) = standing.due() {
                told.push((now, telling));
                standing.set_told();
            }
        }
        told
    }

    #[test]
    fn out_and_back_are_told_once_each_when_they_have_lasted() {
        let mut standing = Standing::new(at(0));
        let level = [vec![1.0; 5], vec![2.5; 3], vec![1.0; 2], vec![2.6; 4], vec![3.0], vec![2.5; 10], vec![1.0; 10]];
        let told = play(&mut standing, &terms(5, 4), 0, &level.concat());
        // Out from second 10 on; back from second 25 on.
        assert_eq!(told, [(15, Telling::Raised), (29, Telling::Cleared)]);
        assert_eq!((standing.out_since, standing.worst), (Some(at(10)), Some(3.0)));
        assert_eq!((standing.phase, standing.told), (Phase::Ok, false));
    }

    #[test]
    fn a_value_on_the_edge_is_inside_and_no_wait_is_needed_without_times() {
        let mut standing = Standing::new(at(0));
        let band = Terms { band: Band { low: Some(1.0), high: Some(2.0) }, ..Terms::default() };
        let told = play(&mut standing, &band, 0, &[1.0, 2.0, 0.9, 1.0]);
        assert_eq!(told, [(2, Telling::Raised), (3, Telling::Cleared)]);
    }

    #[test]
    fn what_flaps_is_told_less_often() {
        let mut standing = Standing::new(at(0));
        let wave: Vec<f64> = (0..600).map(|second| if second / 10 % 2 == 0 { 3.0 } else { 1.0 }).collect();
        let told = play(&mut standing, &terms(0, 0), 0, &wave);
        assert_eq!(told.len(), 2 * FLAPS - 1, "{told:?}");
        assert!(standing.flapping && standing.told && standing.raises.len() <= FLAPS);
        // It settles at last.
        let calm = play(&mut standing, &terms(0, 0), 600, &vec![1.0; 1_000]);
        assert_eq!(calm, [(590 + 300, Telling::Cleared)]);
        assert!(!standing.flapping);
    }

    #[test]
    fn a_rehearsal_tells_what_would_have_been_told() {
        let level = [vec![1.0; 5], vec![2.5; 8], vec![1.0; 6], vec![2.6; 4], vec![1.0; 7], vec![2.5, 3.0, 2.7, 2.7]];
        let level: Vec<f64> = level.concat();
        let values = || (0..).map(at).zip(level.iter().copied());
        let spells = rehearse(&terms(3, 4), values());
        let told: Vec<_> = spells.iter().map(|spell| (spell.out_since, spell.raised_at, spell.cleared_at)).collect();
        assert_eq!(
            told,
            [(at(5), at(8), Some(at(17))), (at(19), at(22), Some(at(27))), (at(30), at(33), None)],
            "{spells:?}"
        );
        assert_eq!(spells.iter().map(|spell| spell.worst).collect::<Vec<_>>(), [2.5, 2.6, 3.0]);
        assert_eq!(spells.iter().map(|spell| spell.flapping).collect::<Vec<_>>(), [false, false, true]);
        // What lasts too short is not told, and of nothing nothing is.
        assert_eq!(rehearse(&terms(9, 0), values()), []);
        assert_eq!(rehearse(&terms(0, 0), []), []);
        let wider = Terms { band: Band { low: None, high: Some(2.8) }, ..terms(0, 0) };
        assert_eq!(rehearse(&wider, values()).len(), 1);
    }

    proptest! {
        /// A rehearsal and the machine that watches tell the same at the same times.
        #[test]
        fn a_rehearsal_is_what_happens(
            values in prop::collection::vec(0.0_f64..5.0, 0..300), out in 0_u64..8, back in 0_u64..8
        ) {
            let told = play(&mut Standing::new(at(0)), &terms(out, back), 0, &values);
            let spells = rehearse(&terms(out, back), (0..).map(at).zip(values.iter().copied()));
            let rehearsed: Vec<Time> =
                spells.iter().flat_map(|spell| [Some(spell.raised_at), spell.cleared_at]).flatten().collect();
            prop_assert_eq!(rehearsed, told.iter().map(|(second, _)| at(*second)).collect::<Vec<_>>());
            for spell in &spells {
                prop_assert!(spell.out_since <= spell.raised_at && HIGH.is_out(spell.worst));
            }
        }

        /// Whatever comes, what is told alternates, and nothing is told that is not so.
        #[test]
        fn what_is_told_alternates(
            values in prop::collection::vec(prop_oneof![Just(1.0), Just(3.0)], 0..300), out in 0_u64..8, back in 0_u64..8
        ) {
            let mut standing = Standing::new(at(0));
            let told = play(&mut standing, &terms(out, back), 0, &values);
            for (place, (second, telling)) in told.iter().enumerate() {
                let wanted = if place % 2 == 0 { Telling::Raised } else { Telling::Cleared };
                prop_assert_eq!(*telling, wanted);
                let lasted = if *telling == Telling::Raised { out } else { back };
                let value = if *telling == Telling::Raised { 3.0 } else { 1.0 };
                let from = (*second - lasted.min(*second)) as usize;
                prop_assert!(values[from..=*second as usize].iter().all(|known| *known == value));
            }
        }
    }
}
