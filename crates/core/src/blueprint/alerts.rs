//! Alerts of a blueprint: what is watched, within which band, and who is told.

use std::{fmt, time::Duration};

use humantime::format_duration;
use moorfall_wire::{TopicFilter, TopicName};
use serde::{Deserialize, Serialize};

use super::{PatternLevel, Span, TopicPattern};
use crate::{TopicSet, alert::Terms, measure::Series};

/// How much it matters that an alert is raised.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum AlertSeverity {
    /// Worth knowing.
    Info,
    /// Somebody should look.
    #[default]
    Warning,
    /// Somebody should act.
    Critical,
}

impl fmt::Display for AlertSeverity {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Info => "info",
            Self::Warning => "warning",
            Self::Critical => "critical",
        })
    }
}

/// Topics that an alert is about.
#[derive(Clone, Debug)]
pub struct WatchedTopics {
    /// As they were written: a filter, perhaps with named levels.
    pub pattern: TopicPattern,
    /// The topics themselves.
    pub set: TopicSet,
    /// A filter that catches all of them, and perhaps others.
    pub filter: TopicFilter,
}

impl WatchedTopics {
    /// Takes a pattern; gives it back if values of a session stand in it, which is nobody's here.
    pub(super) fn new(pattern: TopicPattern) -> Result<Self, TopicPattern> {
        let mut filter = Vec::new();
        for level in pattern.levels() {
            match level {
                PatternLevel::Text(text) => filter.push(&**text),
                PatternLevel::Any | PatternLevel::Named(_) => filter.push("+"),
                PatternLevel::Template(_) => return Err(pattern),
            }
        }
        if pattern.is_open() {
            filter.push("#");
        }
        match filter.join("/").parse() {
            Ok(filter) => Ok(Self { set: pattern.of_anyone(), filter, pattern }),
            Err(_) => Err(pattern),
        }
    }

    /// The one topic, if it can be no other.
    pub fn one(&self) -> Option<TopicName> {
        self.pattern.to_string().parse().ok()
    }
}

/// What of a bridge an alert is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, strum::EnumString, strum::Display, strum::VariantNames)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum BridgeFigure {
    /// 1 while its link is down though it was not told to rest, otherwise 0.
    Down,
    /// Messages that wait for it.
    Waiting,
    /// Their bytes.
    WaitingBytes,
    /// How long the one has waited that waits longest, seconds.
    Oldest,
}

/// What an alert is about.
#[derive(Clone, Debug)]
pub enum Watched {
    /// A measure of the broker; of a counter the rate per second.
    Measure(Series),
    /// One bridge.
    Bridge {
        /// Its name.
        name: String,
        /// What of it.
        figure: BridgeFigure,
    },
    /// A number in messages, of each topic for itself.
    Number {
        /// Of which topics.
        topics: WatchedTopics,
        /// The way to it in JSON; empty if the payload is the number.
        field: Vec<String>,
    },
    /// The time since the last message on each of these topics.
    SilentTopics {
        /// Which.
        topics: WatchedTopics,
        /// How long it may be; the planned cadence of each if absent.
        longest: Option<Duration>,
    },
    /// The time since the last message of an identity.
    SilentIdentity(String),
    /// The time since the last message of a session.
    SilentSession(String),
}

impl Watched {
    /// The topics, if it is about some.
    pub fn topics(&self) -> Option<&WatchedTopics> {
        match self {
            Self::Number { topics, .. } | Self::SilentTopics { topics, .. } => Some(topics),
            Self::Measure(_) | Self::Bridge { .. } | Self::SilentIdentity(_) | Self::SilentSession(_) => None,
        }
    }

    /// Whether it is about the time since something came, and not about values.
    pub fn is_silence(&self) -> bool {
        matches!(self, Self::SilentTopics { .. } | Self::SilentIdentity(_) | Self::SilentSession(_))
    }
}

impl fmt::Display for Watched {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Measure(series) => write!(f, "measure {series}"),
            Self::Bridge { name, figure } => write!(f, "{figure} of bridge {name}"),
            Self::Number { topics, field } if field.is_empty() => write!(f, "number in {}", topics.pattern),
            Self::Number { topics, field } => write!(f, "{} in {}", field.join("."), topics.pattern),
            Self::SilentTopics { topics, .. } => write!(f, "silence of {}", topics.pattern),
            Self::SilentIdentity(name) => write!(f, "silence of identity {name}"),
            Self::SilentSession(client_id) => write!(f, "silence of session {client_id}"),
        }
    }
}

/// An alert.
#[derive(Clone, Debug)]
pub struct Alert {
    /// Where it stands.
    pub at: Span,
    /// Notices begin with it.
    pub name: String,
    /// What it is for.
    pub purpose: String,
    /// How much it matters.
    pub severity: AlertSeverity,
    /// What it is about.
    pub watched: Watched,
    /// Its band, and how long what must last. Of silence in seconds.
    pub terms: Terms,
    /// What whoever is told should know or do.
    pub text: String,
    /// Who is told: names of contacts.
    pub tell: Vec<String>,
}

/// Somebody who is told of alerts.
#[derive(Clone, Debug)]
pub struct Contact {
    /// Where it stands.
    pub at: Span,
    /// Who that is.
    pub purpose: String,
    /// Addresses of e-mail.
    pub mail: Vec<String>,
    /// Where a web hook is called.
    pub hook: Option<String>,
    /// A topic that notices are published to.
    pub topic: Option<TopicName>,
}

impl Alert {
    /// The band in words, and what of times differs from none.
    pub fn band_in_words(&self) -> String {
        let silent = self.watched.is_silence();
        match (self.terms.band.low, self.terms.band.high) {
            (None, Some(high)) if silent => format!("at most {}", format_duration(Duration::from_secs_f64(high))),
            _ if silent => "at most the planned cadence".into(),
            (Some(low), Some(high)) => format!("{low} to {high}"),
            (Some(low), None) => format!("at least {low}"),
            (None, Some(high)) => format!("at most {high}"),
            (None, None) => String::new(),
        }
    }
}
