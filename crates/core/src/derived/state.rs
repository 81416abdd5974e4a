//! What is known of one derived topic.

use serde::{Deserialize, Serialize};

use super::{
    outcome::{MadeRecord, Outcome, Quality},
    window::Values,
};
use crate::{
    Known, MessageFields, NoValue, PayloadValue, Scalar, Time,
    blueprint::{Derived, DerivedForm, Statistic},
    expression::{payload_of, scaled},
};

/// The longest payload that is kept until other sources have said something, bytes.
const KEPT: usize = 16 * 1024;

/// What a source has said last.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(super) struct Heard {
    /// Where.
    pub(super) topic: String,
    /// What, as text; kept only if there are several sources.
    pub(super) payload: String,
}

/// What was published last.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(super) struct Published {
    pub(super) value: Scalar,
    /// Microseconds.
    pub(super) at: u64,
    pub(super) quality: Quality,
}

/// What is known of one derived topic.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub(super) struct State {
    /// The newest of each source.
    pub(super) heard: Vec<Option<Heard>>,
    #[serde(default, skip_serializing_if = "is_empty")]
    window: Values,
    /// The newest value, and when it was made, microseconds.
    pub(super) value: Option<(Scalar, u64)>,
    pub(super) published: Option<Published>,
    /// Whether the newest value is still to be published.
    pub(super) waits: bool,
    /// For when something is to be looked at, if that was noted.
    #[serde(skip)]
    pub(super) noted: Option<Time>,
    /// Whether it is otherwise than it was kept.
    #[serde(skip)]
    pub(super) is_new: bool,
}

fn is_empty(values: &Values) -> bool {
    *values == Values::default()
}

/// A value as it is told: a number with as many decimals as are wanted.
fn to_told(value: Scalar, derived: &Derived) -> Scalar {
    match (derived.decimals, value) {
        (Some(decimals), Scalar::Number(number)) => {
            let rounded: f64 = format!("{number:.*}", usize::from(decimals)).parse().unwrap_or(number);
            // Adding 0 makes -0 what it looks like.
            Scalar::Number(rounded + 0.0)
        }
        (_, value) => value,
    }
}

/// A message of a source.
#[derive(Clone, Copy)]
pub(super) struct Arrived<'a> {
    pub(super) source: usize,
    pub(super) topic: &'a str,
    pub(super) payload: &'a [u8],
    pub(super) fields: &'a MessageFields<'a>,
    pub(super) now: Time,
}

impl State {
    /// A message has come.
    pub(super) fn hear(&mut self, derived: &Derived, arrived: Arrived<'_>) -> Outcome {
        self.is_new = true;
        match self.make(derived, arrived) {
            Err(outcome) => outcome,
            Ok(value) => self.tell(derived, value, arrived.now),
        }
    }

    /// The value that a message makes.
    fn make(&mut self, derived: &Derived, arrived: Arrived<'_>) -> Result<Scalar, Outcome> {
        Ok(to_told(self.made(derived, arrived)?, derived))
    }

    fn made(&mut self, derived: &Derived, arrived: Arrived<'_>) -> Result<Scalar, Outcome> {
        let Arrived { source, topic, payload, fields, now } = arrived;
        let is_one = derived.sources.len() == 1;
        self.heard.resize(derived.sources.len(), None);
        if !is_one && payload.len() > KEPT {
            return Err(Outcome::Failed(NoValue::NotKept));
        }
        let payload = if is_one { String::new() } else { String::from_utf8_lossy(payload).into_owned() };
        self.heard[source] = Some(Heard { topic: topic.to_owned(), payload });
        if !is_one {
            let silent = |(source, heard): (&crate::blueprint::DerivedSource, &Option<Heard>)| {
                heard.is_none().then(|| source.name.clone())
            };
            let missing: Vec<String> = derived.sources.iter().zip(&self.heard).filter_map(silent).collect();
            if !missing.is_empty() {
                return Err(Outcome::Incomplete(missing));
            }
        }
        let others = self.heard.iter().filter(|_| !is_one).flatten();
        let said: Result<Vec<PayloadValue<'_>>, NoValue> =
            others.map(|heard| payload_of(heard.payload.as_bytes())).collect();
        let said = said.map_err(Outcome::Failed)?;
        let beside: Vec<_> = derived.sources.iter().map(|source| source.name.as_str()).zip(&said).collect();
        let level = derived.sources[source].names.caught(topic);
        let before = self.value.as_ref().map(|(value, _)| value);
        let known = Known { message: fields, level: &level, beside: &beside, time: now, before };
        let is_true = derived.condition.as_ref().map_or(Ok(true), |condition| condition.is_true(&known));
        if !is_true.map_err(Outcome::Failed)? {
            return Err(Outcome::NotTrue);
        }
        let value = derived.value.evaluate(&known).map_err(Outcome::Failed)?;
        let is_count = derived.window.is_some_and(|window| window.statistic == Statistic::Count);
        let is_scaled = derived.scale != (1.0, 0.0);
        if !is_scaled && derived.window.is_none() && derived.dead_band.is_none() {
            return Ok(value);
        }
        let number = match value.number() {
            Some(number) => scaled(number, derived.scale).map_err(Outcome::Failed)?,
            None if is_count => 1.0,
            None => return Err(Outcome::Failed(NoValue::NotNumber)),
        };
        let Some(window) = derived.window else { return Ok(Scalar::Number(number)) };
        self.window.add(window, number, now);
        match self.window.tell(window.statistic) {
            Some(told) => Ok(Scalar::Number(scaled(told, (1.0, 0.0)).map_err(Outcome::Failed)?)),
            None => Err(Outcome::OneAlone),
        }
    }

    /// Publishes a value, unless it is to wait or is like the one before.
    fn tell(&mut self, derived: &Derived, value: Scalar, now: Time) -> Outcome {
        self.value = Some((value, now.as_micros()));
        let Some(published) = &self.published else { return self.publish(derived, Quality::Good, now) };
        if published.quality == Quality::Good && derived.on_change && self.is_like(published, derived.dead_band) {
            self.waits = false;
            return Outcome::Unchanged;
        }
        if let Some(until) = derived.at_most_every.map(|every| Time::from_micros(published.at) + every)
            && until > now
        {
            self.waits = true;
            return Outcome::Waits(until);
        }
        self.publish(derived, Quality::Good, now)
    }

    fn is_like(&self, published: &Published, dead_band: Option<f64>) -> bool {
        let Some((value, _)) = &self.value else { return false };
        match (dead_band, value, &published.value) {
            (Some(band), Scalar::Number(value), Scalar::Number(before)) => (value - before).abs() < band,
            _ => *value == published.value,
        }
    }

    fn publish(&mut self, derived: &Derived, quality: Quality, now: Time) -> Outcome {
        let Some((value, at)) = self.value.clone() else { return Outcome::Unchanged };
        self.waits = false;
        self.is_new = true;
        self.published = Some(Published { value: value.clone(), at: now.as_micros(), quality });
        let payload = match derived.form {
            DerivedForm::Value => value.to_string(),
            DerivedForm::Record => MadeRecord::new(value, Time::from_micros(at), quality).to_string(),
        };
        Outcome::Published(payload.into())
    }

    /// When something is to be looked at next.
    pub(super) fn due(&self, derived: &Derived) -> Option<Time> {
        let published = self.published.as_ref()?;
        let waits = derived.at_most_every.filter(|_| self.waits).map(|every| Time::from_micros(published.at) + every);
        let stale = self.stale_at(derived).filter(|_| published.quality == Quality::Good);
        let ends = derived.window.and_then(|window| self.window.ends(window));
        [waits, stale, ends].into_iter().flatten().min()
    }

    /// When the newest value is older than it is meant to be, if no other comes.
    fn stale_at(&self, derived: &Derived) -> Option<Time> {
        derived.cadence.zip(self.value.as_ref()).map(|(cadence, (_, at))| Time::from_micros(*at) + cadence)
    }

    /// Time has passed. Gives what is published now, if anything is.
    pub(super) fn look(&mut self, derived: &Derived, now: Time) -> Option<Outcome> {
        if self.due(derived).is_none_or(|due| due > now) {
            return None;
        }
        let has_shrunk = self.shrink(derived, now);
        let published = self.published.as_ref()?;
        let is_stale = self.stale_at(derived).is_some_and(|at| at <= now);
        let quality = if is_stale { Quality::Stale } else { Quality::Good };
        if is_stale && published.quality == Quality::Good {
            return Some(self.publish(derived, quality, now));
        }
        if !(self.waits || has_shrunk) {
            return None;
        }
        self.waits = !(derived.on_change && self.is_like(published, derived.dead_band));
        let every = derived.at_most_every.unwrap_or_default();
        let is_time = Time::from_micros(published.at) + every <= now;
        (self.waits && is_time).then(|| self.publish(derived, quality, now))
    }

    /// Values that are older than the window count no more. Gives whether the value is another one now; its time is that
    /// of the newest message still.
    fn shrink(&mut self, derived: &Derived, now: Time) -> bool {
        let Some(window) = derived.window.filter(|window| self.window.ends(*window).is_some_and(|end| end <= now))
        else {
            return false;
        };
        self.is_new = true;
        self.window.forget(window, now);
        let told = self.window.tell(window.statistic).and_then(|told| scaled(told, (1.0, 0.0)).ok());
        let (Some(told), Some((value, _))) = (told, &mut self.value) else { return false };
        let told = to_told(Scalar::Number(told), derived);
        if *value == told {
            return false;
        }
        *value = told;
        true
    }
}
