//! The planned topics made ready: which of them a topic is, and what a message breaks of it.

use std::fmt;

use moorfall_wire::QoS;
use serde::{Deserialize, Serialize};

use crate::{
    blueprint::{OnBreach, PathLevel, PlannedTopic, Retention},
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

impl fmt::Display for Breach {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Unplanned => "its topic is not planned",
            Self::QoS => "another QoS",
            Self::Retention => "retained, or not, against the plan",
            Self::Payload => "a payload of another form",
        })
    }
}

/// A message that breaks the plan.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Broken {
    /// What.
    pub breach: Breach,
    /// In a sentence.
    pub words: String,
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
        let broken = |breach, words| Some(Broken { breach, words, refused: topic.on_breach == OnBreach::Refuse });
        if !(retain && payload.is_empty())
            && let Err(words) = topic.payload.check(payload)
        {
            return broken(Breach::Payload, format!("the payload is {words}"));
        }
        if let Some(planned) = topic.qos.filter(|planned| *planned != qos) {
            return broken(Breach::QoS, format!("the message has QoS {qos}; QoS {planned} is planned"));
        }
        match (topic.retained, retain) {
            (Retention::Required, false) => {
                broken(Breach::Retention, "the message is not retained; it is planned to be".into())
            }
            (Retention::Never, true) => {
                broken(Breach::Retention, "the message is retained; it is planned not to be".into())
            }
            _ => None,
        }
    }
}

/// How a message agrees with the plan.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Agreement {
    /// Nothing is planned at all.
    NoPlan,
    /// No planned path holds its topic.
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
            Self::NoPlan => f.write_str("nothing is planned"),
            Self::Unplanned => f.write_str("no planned path holds this topic"),
            Self::AsPlanned(path) => write!(f, "it is as planned for {path}"),
            Self::Breaks(path, Broken { words, refused, .. }) => {
                let fate = if *refused { "it is refused" } else { "it is only counted" };
                write!(f, "it breaks the plan of {path}: {words}; {fate}")
            }
        }
    }
}

impl PlannedTopic {
    fn fixed_levels(&self) -> usize {
        self.levels.iter().filter_map(PathLevel::fixed).count()
    }
}
