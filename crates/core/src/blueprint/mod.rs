//! The blueprint: the declared design of a broker. `docs/BLUEPRINT.md` describes its files field by field.

mod alerts;
mod bridge_rights;
mod bridges;
mod derived;
mod diff;
mod lint;
mod lint_bridges;
mod owned;
mod pattern;
mod payload;
mod proofs;
mod read;
mod read_alerts;
mod read_bridges;
mod read_conditions;
mod read_derived;
mod read_owned;
mod reader;
mod schema_cost;
mod source;

use std::{
    collections::{BTreeMap, BTreeSet},
    fmt,
    sync::Arc,
    time::Duration,
};

use moorfall_wire::QoS;
use serde::{Deserialize, Serialize};

use crate::{AttributeValue, CohortQuota, Condition, Level, Segment, TopicSet, expression::Expression};

pub use self::{
    alerts::{Alert, AlertSeverity, BridgeFigure, Contact, Watched, WatchedTopics},
    bridge_rights::bridge_rights,
    bridges::{Bridge, BridgeFiles, BridgeMapping, Waiting},
    derived::{Derived, DerivedForm, DerivedSource, Statistic, Window},
    diff::{Change, FieldChange, Kind, diff},
    owned::{Owned, StrengthOf},
    pattern::{BindError, ClientId, PatternError, PatternLevel, TopicPattern},
    payload::{Payload, PayloadFault, Schema},
    proofs::{Population, ProofFault, ProofResult, prove, prove_within},
    schema_cost::SchemaError,
    source::{Finding, Severity, Source, SourceFile, Span},
};

/// The declared design of a broker. Equal ones say the same, wherever it stands in their text.
#[derive(Clone, Debug, Default)]
pub struct Blueprint {
    /// The text that it was read from.
    pub source: Source,
    /// Shown in the status and the console.
    pub name: String,
    /// What this broker is for.
    pub purpose: String,
    /// Named places in the hierarchy.
    pub levels: BTreeMap<String, PlannedLevel>,
    /// The topics that are meant to be.
    pub topics: Vec<PlannedTopic>,
    /// Identities chosen by their attributes, by name.
    pub cohorts: BTreeMap<String, Cohort>,
    /// Who may publish and subscribe to what, in the order of the text.
    pub rules: Vec<Rule>,
    /// What must be true of the rules.
    pub proofs: Vec<Proof>,
    /// Who can be told of alerts, by name.
    pub contacts: BTreeMap<String, Contact>,
    /// What is watched, and who is told.
    pub alerts: Vec<Alert>,
    /// Other brokers, and what goes between them and this one.
    pub bridges: Vec<Bridge>,
    /// Topics that are made of others.
    pub derived: Vec<Derived>,
    /// Which messages of some topics somebody gets.
    pub conditions: Vec<OnlyWhere>,
    /// Topics that have one owner at a time.
    pub owned: Vec<Owned>,
}

/// A named place in the hierarchy.
#[derive(Clone, Debug)]
pub struct PlannedLevel {
    /// Where it stands.
    pub at: Span,
    /// What it is for.
    pub purpose: String,
    /// Its name and values.
    pub level: Arc<Level>,
}

/// Whether messages of a topic are retained.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Retention {
    /// They may be.
    #[default]
    Allowed,
    /// All of them are.
    Required,
    /// None is.
    Never,
}

/// What happens to a message that breaks the plan.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum OnBreach {
    /// It is counted and passed on.
    #[default]
    Count,
    /// It is refused.
    Refuse,
}

/// Topics that are meant to be, told by one path.
#[derive(Clone, Debug)]
pub struct PlannedTopic {
    /// Where it stands.
    pub at: Span,
    /// The path, as it was written.
    pub path: String,
    /// The topics of the path.
    pub set: TopicSet,
    /// The levels of the path: named ones by their names.
    pub levels: Vec<PathLevel>,
    /// What it is for.
    pub purpose: String,
    /// What messages hold.
    pub payload: Payload,
    /// The QoS of messages; any if absent.
    pub qos: Option<QoS>,
    /// Whether messages are retained.
    pub retained: Retention,
    /// The longest time between two messages on one topic.
    pub cadence: Option<Duration>,
    /// What happens to messages that are otherwise.
    pub on_breach: OnBreach,
}

/// One level of a planned path.
#[derive(Clone, Debug, PartialEq)]
pub enum PathLevel {
    /// This text.
    Text(String),
    /// A value of this level.
    Named(Arc<Level>),
}

impl PathLevel {
    /// Its text, if it is always the same.
    pub(crate) fn fixed(&self) -> Option<&str> {
        if let Self::Text(text) = self { Some(text) } else { None }
    }
}

/// Identities chosen by their attributes.
#[derive(Clone, Debug)]
pub struct Cohort {
    /// Where it stands.
    pub at: Span,
    /// What it is for.
    pub purpose: String,
    /// Which identities.
    pub expression: Expression,
    /// How much each of them may hold, where it differs from the limits.
    pub quota: CohortQuota,
}

/// Whom a rule or a proof concerns.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Who {
    /// The identity of this name.
    Identity(String),
    /// The identities of this cohort.
    Cohort(String),
    /// Every identity.
    Everyone,
}

impl fmt::Display for Who {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Identity(name) => f.write_str(name),
            Self::Cohort(name) => write!(f, "cohort {name}"),
            Self::Everyone => f.write_str("everyone"),
        }
    }
}

/// What a rule is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Act {
    /// Sending messages.
    Publish,
    /// Receiving them.
    Subscribe,
}

impl Act {
    /// As in "publishing".
    pub fn gerund(self) -> &'static str {
        match self {
            Self::Publish => "publishing",
            Self::Subscribe => "subscribing",
        }
    }
}

impl fmt::Display for Act {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Publish => "publish",
            Self::Subscribe => "subscribe",
        })
    }
}

/// What a rule does.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Verdict {
    /// Allows.
    #[default]
    Allow,
    /// Denies; wins over every rule that allows.
    Deny,
}

/// So many messages in such a time, of one session.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Rate {
    /// Messages.
    pub messages: u32,
    /// In this time.
    pub every: Duration,
}

impl fmt::Display for Rate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let unit = match self.every.as_secs() {
            1 => "s",
            60 => "m",
            _ => "h",
        };
        write!(f, "{}/{unit}", self.messages)
    }
}

/// Within what a rule allows.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct RuleLimits {
    /// The highest QoS.
    pub highest_qos: Option<QoS>,
    /// `Some(false)`: no retained messages; `Some(true)`: only such.
    pub retained: Option<bool>,
    /// How often.
    pub rate: Option<Rate>,
}

/// One access rule.
#[derive(Clone, Debug)]
pub struct Rule {
    /// Where it stands.
    pub at: Span,
    /// Refusals and explanations mention it.
    pub name: String,
    /// What it is for.
    pub purpose: String,
    /// Allows or denies.
    pub verdict: Verdict,
    /// Whom it concerns.
    pub who: Who,
    /// What it is about.
    pub acts: BTreeSet<Act>,
    /// Which topics.
    pub topics: Vec<TopicPattern>,
    /// Where each of them stands.
    pub topics_at: Vec<Span>,
    /// Within what.
    pub limits: RuleLimits,
}

/// Which messages of some topics somebody gets.
#[derive(Clone, Debug)]
pub struct OnlyWhere {
    /// Where it stands.
    pub at: Span,
    /// Explanations mention it.
    pub name: String,
    /// What it is for.
    pub purpose: String,
    /// Whom it concerns.
    pub who: Who,
    /// Which topics.
    pub topics: Vec<TopicPattern>,
    /// What must be true of a message.
    pub condition: Arc<Condition>,
}

/// A statement about the rules that must hold before the blueprint is applied.
#[derive(Clone, Debug)]
pub struct Proof {
    /// Where it stands.
    pub at: Span,
    /// Findings mention it.
    pub name: String,
    /// Why it matters.
    pub purpose: String,
    /// Of whom it is said.
    pub who: Who,
    /// Attributes of an identity that need not exist.
    pub attributes: Option<BTreeMap<String, AttributeValue>>,
    /// Whether they can, or cannot.
    pub can: bool,
    /// What.
    pub act: Act,
    /// Of which topics: all for `can`, any for `cannot`.
    pub topics: Vec<TopicPattern>,
    /// With which QoS.
    pub qos: QoS,
    /// With which retain flag.
    pub retained: bool,
}

impl PlannedTopic {
    /// The planned topics of a path.
    fn set_of(levels: &[PathLevel]) -> TopicSet {
        let segments = levels.iter().map(|level| match level {
            PathLevel::Text(text) => Segment::One(text.as_str().into()),
            PathLevel::Named(level) => level.into(),
        });
        TopicSet::new(segments.collect(), false)
    }
}

impl Blueprint {
    /// Reads a blueprint from its files.
    ///
    /// # Errors
    ///
    /// Everything that is wrong, in the order of the text. Warnings alone are no reason.
    pub fn read(source: Source) -> Result<Self, Vec<Finding>> {
        read::read(source)
    }

    /// What is legal and probably not meant.
    pub fn lint(&self) -> Vec<Finding> {
        lint::lint(self)
    }

    /// Reads one file that has no name.
    pub fn parse(text: &str) -> Result<Self, Vec<Finding>> {
        Self::read(Source::new([SourceFile { name: "blueprint.toml".into(), text: text.into() }]))
    }
}
