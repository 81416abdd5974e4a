//! Derived topics of a blueprint: values that the broker makes out of messages, and publishes.

use std::time::Duration;

use moorfall_wire::{QoS, TopicName};
use serde::{Deserialize, Serialize};
use strum::{Display, EnumString, VariantNames};

use super::Span;
use crate::{
    ValueExpression,
    bridge::{Mapped, Mapping},
};

/// Topics that are made of others: one for each that the name may become.
#[derive(Clone, Debug)]
pub struct Derived {
    /// Where it stands.
    pub at: Span,
    /// Its name.
    pub name: String,
    /// What it is for.
    pub purpose: String,
    /// Of what: one source without a name, or several that are told apart by theirs.
    pub sources: Vec<DerivedSource>,
    /// The topics that are made, as it was written.
    pub to: String,
    /// Which messages; all if absent.
    pub condition: Option<ValueExpression>,
    /// The value.
    pub value: ValueExpression,
    /// What a number is multiplied by, and what is added then.
    pub scale: (f64, f64),
    /// How many decimals a number is rounded to; 12 digits are told if absent.
    pub decimals: Option<u8>,
    /// Over which time it is taken, and how; of the newest message alone if absent.
    pub window: Option<Window>,
    /// Whether a value like the one before is left out.
    pub on_change: bool,
    /// How far a number must be from the one before, or else it is left out.
    pub dead_band: Option<f64>,
    /// The shortest time between two messages; the newest value waits.
    pub at_most_every: Option<Duration>,
    /// The longest time between two messages of the sources, after which the value is stale.
    pub cadence: Option<Duration>,
    /// What messages hold.
    pub form: DerivedForm,
    /// The QoS of messages, and the highest at which their sources are taken.
    pub qos: QoS,
    /// Whether messages are retained.
    pub retained: bool,
}

/// Where values come from.
#[derive(Clone, Debug, PartialEq)]
pub struct DerivedSource {
    /// By which expressions know it; empty if there is one alone.
    pub name: String,
    /// Which topics, and what they become.
    pub names: Mapping,
}

/// How values of a time are made into one.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Window {
    /// How.
    pub statistic: Statistic,
    /// Of which time.
    pub span: Duration,
}

/// What is told of several values.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, EnumString, VariantNames, Display)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum Statistic {
    /// Their mean.
    Mean,
    /// The least.
    Least,
    /// The greatest.
    Greatest,
    /// Their sum.
    Sum,
    /// How many.
    Count,
    /// By how much they change in a second, from the first to the last.
    Rate,
}

/// What derived messages hold.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, EnumString, VariantNames, Display)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum DerivedForm {
    /// The value alone, as text.
    #[default]
    Value,
    /// A JSON object of value, time and quality.
    Record,
}

impl Derived {
    /// What becomes of a topic: of which source it is, and what it makes.
    pub fn taken(&self, topic: &TopicName) -> impl Iterator<Item = (usize, TopicName)> {
        self.sources.iter().enumerate().filter_map(|(place, source)| match source.names.apply(topic) {
            Mapped::To(to) => Some((place, to)),
            Mapped::NotTaken | Mapped::Nameless => None,
        })
    }

    /// Whether it may make this topic.
    pub fn makes(&self, topic: &str) -> bool {
        self.sources.iter().any(|source| source.names.image().holds(topic))
    }
}
