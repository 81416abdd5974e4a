//! The planned topics made ready: which of them a topic is, and what a message breaks of it.

use std::fmt;

use moorfall_wire::QoS;
use serde::{Deserialize, Serialize};

use crate::{
    blueprint::{OnBreach, PathLevel, PayloadFault, PlannedTopic, Retention},
    pattern_index::PatternIndex,
};

/// The planned topics.
#[derive(Debug, Default)]
pub struct Plan {
    topics: Vec<PlannedTopic>,
    index: PatternIndex,
}

/// What a message breaks of the plan.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Breach {
    /// Its topic is not planned.
    Unplanned,
    /// It has another QoS.
    QoS,
    /// It is retained and should not be, or the other way round.
    Retention,
    /// Its payload is of another form.
    Payload,
}

/// What exactly a message breaks of the plan.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Fault {
    /// No planned path has its topic.
    Unplanned,
    /// It has another QoS.
    QoS {
        /// The one that is planned.
        planned: QoS,
        /// The message's.
        actual: QoS,
    },
    /// It has the retain flag, or not, against the plan.
    Retention {
        /// Whether the message has it.
        retained: bool,
    },
    /// Its payload is not as planned.
    Payload(PayloadFault),
}

impl Fault {
    /// What kind of breach it is.
    pub fn breach(&self) -> Breach {
        match self {
            Self::Unplanned => Breach::Unplanned,
            Self::QoS { .. } => Breach::QoS,
            Self::Retention { .. } => Breach::Retention,
            Self::Payload(_) => Breach::Payload,
        }
    }
}

impl fmt::Display for Breach {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Unplanned => "topic not planned",
            Self::QoS => "QoS",
            Self::Retention => "retain flag",
            Self::Payload => "payload",
        })
    }
}

impl fmt::Display for Fault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Unplanned => f.write_str("no planned topic covers it"),
            Self::QoS { planned, actual } => write!(f, "it has QoS {actual}, and QoS {planned} is planned"),
            Self::Retention { retained: false } => f.write_str("it is not retained, and the plan requires it"),
            Self::Retention { retained: true } => f.write_str("it is retained, and the plan forbids it"),
            Self::Payload(fault) => fault.fmt(f),
        }
    }
}

/// A message that breaks the plan.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Broken {
    /// What.
    pub fault: Fault,
    /// Whether the message is refused.
    pub refused: bool,
}

impl Plan {
    pub(crate) fn new(topics: &[PlannedTopic]) -> Self {
        let mut index = PatternIndex::default();
        for (place, topic) in topics.iter().enumerate() {
            index.insert(topic.levels.iter().map(PathLevel::fixed), false, place);
        }
        Self { topics: topics.to_vec(), index }
    }

    /// The planned topics, in the order of the text.
    pub fn topics(&self) -> &[PlannedTopic] {
        &self.topics
    }

    /// Which planned topic this is; of several, the one with the most levels of fixed text.
    pub fn find(&self, topic: &str) -> Option<usize> {
        let candidates = self.index.candidates(topic);
        let fitting = candidates.into_iter().filter(|place| self.topics[*place].set.holds(topic));
        fitting.max_by_key(|place| (self.topics[*place].fixed_levels(), std::cmp::Reverse(*place)))
    }

    /// How a message agrees with the plan.
    pub fn judge(&self, topic: &str, qos: QoS, retain: bool, payload: &[u8]) -> Agreement {
        if self.topics.is_empty() {
            return Agreement::NoPlan;
        }
        let Some(place) = self.find(topic) else { return Agreement::Unplanned };
        let path = self.topics[place].path.clone();
        match self.check(place, qos, retain, payload) {
            None => Agreement::AsPlanned(path),
            Some(broken) => Agreement::Breaks(path, broken),
        }
    }

    /// What a message breaks of the planned topic at `place`, the gravest first; `None` if nothing. An empty payload
    /// that clears a retained message is of every form.
    pub fn check(&self, place: usize, qos: QoS, retain: bool, payload: &[u8]) -> Option<Broken> {
        let topic = &self.topics[place];
        let broken = |fault| Some(Broken { fault, refused: topic.on_breach == OnBreach::Refuse });
        if !(retain && payload.is_empty())
            && let Err(fault) = topic.payload.check(payload)
        {
            return broken(Fault::Payload(fault));
        }
        if let Some(planned) = topic.qos.filter(|planned| *planned != qos) {
            return broken(Fault::QoS { planned, actual: qos });
        }
        match (topic.retained, retain) {
            (Retention::Required, false) | (Retention::Never, true) => broken(Fault::Retention { retained: retain }),
            _ => None,
        }
    }
}

/// How a message agrees with the plan.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Agreement {
    /// Nothing is planned at all.
    NoPlan,
    /// No planned path has its topic.
    Unplanned,
    /// It is as planned for this path.
    AsPlanned(String),
    /// It breaks the plan of this path.
    Breaks(String, Broken),
}

impl Agreement {
    /// The planned path of its topic, if there is one.
    pub fn path(&self) -> Option<&str> {
        match self {
            Self::NoPlan | Self::Unplanned => None,
            Self::AsPlanned(path) | Self::Breaks(path, _) => Some(path),
        }
    }

    /// Whether the message is refused for what it breaks.
    pub fn is_refused(&self) -> bool {
        matches!(self, Self::Breaks(_, Broken { refused: true, .. }))
    }
}

impl fmt::Display for Agreement {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::NoPlan => f.write_str("The blueprint has no planned topics."),
            Self::Unplanned => f.write_str("No planned topic covers it."),
            Self::AsPlanned(path) => write!(f, "It matches the plan for {path}."),
            Self::Breaks(path, Broken { fault, refused }) => {
                let fate = if *refused { "The plan refuses such messages." } else { "Such messages are only counted." };
                write!(f, "It does not match the plan for {path}: {fault}. {fate}")
            }
        }
    }
}

impl PlannedTopic {
    fn fixed_levels(&self) -> usize {
        self.levels.iter().filter_map(PathLevel::fixed).count()
    }
}
