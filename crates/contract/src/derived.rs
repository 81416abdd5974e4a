//! Derived topics: what the design says of them, and what became of messages.

use serde::{Deserialize, Serialize};
use time::OffsetDateTime;
use utoipa::ToSchema;

use crate::kinds::{DerivedForm, DerivedOutcome, Quality, Statistic};

/// Where values come from.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DerivedSourceView {
    /// By which expressions know it; empty if it is the only one.
    pub name: String,
    /// Which topics, as the blueprint says it.
    pub filter: String,
}

/// Values of a while, made into one.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DerivedWindow {
    /// How.
    pub statistic: Statistic,
    /// Of how many seconds.
    pub seconds: u64,
}

/// What became of messages since the service started, or since the design of the derived topic changed.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DerivedCounts {
    /// Messages of its sources.
    pub heard: u64,
    /// Messages that were published.
    pub published: u64,
    /// Values like the one before, or within the dead band.
    pub unchanged: u64,
    /// Values that waited because one was published a moment before.
    pub waited: u64,
    /// Messages for which the condition is not true.
    pub not_true: u64,
    /// Messages before all sources had said something, or before there was enough for a rate.
    pub incomplete: u64,
    /// Messages of which no value could be made.
    pub failed: u64,
    /// Messages that were made and the plan refuses.
    pub refused: u64,
    /// Messages for which there was no room, because as many topics are made as there may be.
    pub full: u64,
}

/// A message of which no value could be made.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DerivedFailure {
    /// When.
    #[serde(with = "time::serde::rfc3339")]
    pub at: OffsetDateTime,
    /// Where it was published.
    pub topic: String,
    /// What it said, or its beginning.
    pub payload: String,
    /// Why no value could be made.
    pub words: String,
}

/// One of the derived topics of the design.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DerivedView {
    /// Its name.
    pub name: String,
    /// What it is for.
    pub purpose: String,
    /// Of what it is made.
    pub from: Vec<DerivedSourceView>,
    /// The topics that are made, as the blueprint says it.
    pub to: String,
    /// Which messages, as an expression; null if all.
    pub condition: Option<String>,
    /// The value, as an expression.
    pub value: String,
    /// What a number is multiplied by.
    pub factor: f64,
    /// What is added then.
    pub offset: f64,
    /// How many decimals a number is rounded to; null if it is not.
    pub decimals: Option<u8>,
    /// Over which time it is taken; null if of the newest message alone.
    pub window: Option<DerivedWindow>,
    /// Whether a value like the one before is left out.
    pub on_change: bool,
    /// How far a number must be from the one before; null if it need not be.
    pub dead_band: Option<f64>,
    /// The shortest time between two messages, seconds; null if there is none.
    pub at_most_every_seconds: Option<u64>,
    /// The longest time between two values, seconds, after which one is stale; null if there is none.
    pub cadence_seconds: Option<u64>,
    /// What messages hold.
    pub payload: DerivedForm,
    /// The QoS of messages.
    pub qos: u8,
    /// Whether messages are retained.
    pub retained: bool,
    /// How many topics it makes.
    pub topics: u64,
    /// What became of messages.
    pub counts: DerivedCounts,
    /// When one was published last; null if none was.
    #[serde(with = "time::serde::rfc3339::option")]
    pub published_at: Option<OffsetDateTime>,
    /// The newest message of which no value could be made; null if there is none.
    pub failure: Option<DerivedFailure>,
}

/// Derived topics of the design in force.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DerivedList {
    /// In the order of the blueprint.
    pub derived: Vec<DerivedView>,
    /// Why none is made now; null if they are.
    pub trouble: Option<String>,
}

/// A topic that is made.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DerivedTopicView {
    /// The topic.
    pub topic: String,
    /// The newest value; null if none could be made yet.
    pub value: Option<String>,
    /// When it was made.
    #[serde(with = "time::serde::rfc3339::option")]
    pub made_at: Option<OffsetDateTime>,
    /// What was published last; null if nothing was.
    pub published: Option<String>,
    /// When.
    #[serde(with = "time::serde::rfc3339::option")]
    pub published_at: Option<OffsetDateTime>,
    /// Whether it is as new as it is meant to be.
    pub quality: Option<Quality>,
    /// Whether the newest value is still to be published.
    pub waits: bool,
    /// The newest topic of each source that has said something.
    pub sources: Vec<String>,
}

/// One of the derived topics of the design, with what it makes.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DerivedDetails {
    /// The design, and what became of messages.
    pub derived: DerivedView,
    /// Topics that it makes, some of them if there are many.
    pub topics: Vec<DerivedTopicView>,
}

/// A message that might come.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DerivedTrial {
    /// Where.
    pub topic: String,
    /// What.
    pub payload: String,
}

/// What would become of it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DerivedTrialOutcome {
    /// The name of the derived topic in the blueprint.
    pub derived: String,
    /// The topic that it concerns.
    pub topic: String,
    /// What.
    pub outcome: DerivedOutcome,
    /// What would be published; null if nothing.
    pub payload: Option<String>,
    /// Until when it would wait; null if it would not.
    #[serde(with = "time::serde::rfc3339::option")]
    pub until: Option<OffsetDateTime>,
    /// Sources that have said nothing yet.
    pub missing: Vec<String>,
    /// Why no value could be made; empty if one could.
    pub words: String,
}

/// What would become of a message: an entry for each topic that it concerns.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct DerivedTrialResult {
    /// None if it is of none of the sources.
    pub outcomes: Vec<DerivedTrialOutcome>,
}
