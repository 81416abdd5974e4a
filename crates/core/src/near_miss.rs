//! Where a topic, or a planned path, just does not match a filter.

use std::fmt;

use moorfall_wire::TopicFilter;

use crate::{Level, blueprint::PathLevel};

/// What stands at one level.
#[derive(Clone, Copy, Debug)]
pub enum Value<'a> {
    /// Fixed text.
    Text(&'a str),
    /// One of a level's values.
    Named(&'a Level),
}

impl<'a> From<&'a PathLevel> for Value<'a> {
    fn from(level: &'a PathLevel) -> Self {
        match level {
            PathLevel::Text(text) => Self::Text(text),
            PathLevel::Named(level) => Self::Named(level),
        }
    }
}

impl fmt::Display for Value<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Text(text) => f.write_str(text),
            Self::Named(level) => write!(f, "{{{}}}", level.name),
        }
    }
}

/// The first level at which a topic falls out of a filter.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NearMiss {
    /// Which level, from 1.
    pub level: u64,
    /// Why.
    pub why: Why,
}

/// Why a topic falls out of a filter. Values are as they are shown.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Why {
    /// A wildcard never matches a first level that begins with `$` (MQTT 4.7.2).
    Hidden {
        /// The wildcard.
        wildcard: String,
    },
    /// The topic has no level where the filter has one.
    TopicEnds {
        /// What the filter has.
        wanted: String,
    },
    /// The topic has another value.
    Differs {
        /// What the filter has.
        wanted: String,
        /// What the topic has.
        found: String,
    },
    /// The filter has no level where the topic has one.
    FilterEnds {
        /// What the topic has.
        found: String,
    },
}

impl fmt::Display for Why {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Hidden { wildcard } => {
                write!(f, "a wildcard (`{wildcard}`) at the first level does not match names that begin with $")
            }
            Self::TopicEnds { wanted } => write!(f, "the filter has one more level ({wanted})"),
            Self::Differs { wanted, found } => write!(f, "expected {wanted}, found {found}"),
            Self::FilterEnds { found } => write!(f, "the topic has one more level ({found}); `/#` would match it"),
        }
    }
}

/// Where a topic falls out of a filter; `None` if it matches.
pub fn near_miss(filter: &TopicFilter, levels: &[Value<'_>]) -> Option<NearMiss> {
    let wanted: Vec<&str> = filter.levels().collect();
    for (index, want) in wanted.iter().enumerate() {
        let miss = |why| Some(NearMiss { level: index as u64 + 1, why });
        let wanted = || (*want).to_owned();
        let hidden = index == 0 && matches!(levels.first(), Some(Value::Text(text)) if text.starts_with('$'));
        if hidden && matches!(*want, "+" | "#") {
            return miss(Why::Hidden { wildcard: wanted() });
        }
        if *want == "#" {
            return None;
        }
        match levels.get(index) {
            None => return miss(Why::TopicEnds { wanted: wanted() }),
            Some(_) if *want == "+" => {}
            Some(Value::Text(text)) if text == want => {}
            Some(Value::Named(level)) if level.holds(want) => {}
            Some(value) => return miss(Why::Differs { wanted: wanted(), found: value.to_string() }),
        }
    }
    let value = levels.get(wanted.len())?;
    Some(NearMiss { level: wanted.len() as u64 + 1, why: Why::FilterEnds { found: value.to_string() } })
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may panic")]

    use super::*;

    fn miss(filter: &str, topic: &str) -> Option<NearMiss> {
        let levels: Vec<Value<'_>> = topic.split('/').map(Value::Text).collect();
        near_miss(&filter.parse().unwrap(), &levels)
    }

    #[test]
    fn the_first_level_that_does_not_match_is_named() {
        let level = "harrowmere/gorge/kettle-weir/stage/level";
        for filter in
            ["#", "harrowmere/#", "harrowmere/+/+/stage/level", level, "harrowmere/gorge/kettle-weir/stage/level/#"]
        {
            assert_eq!(miss(filter, level), None, "{filter}");
        }
        for (filter, topic, at, words) in [
            ("harrowmere/gorge/+/level", level, 4, "expected level, found stage"),
            ("harrowmere/gorge", level, 3, "the topic has one more level (kettle-weir); `/#` would match it"),
            ("harrowmere/+/+/+/+/raw", level, 6, "the filter has one more level (raw)"),
            ("#", "$SYS/uptime", 1, "a wildcard (`#`) at the first level does not match names that begin with $"),
            (
                "+/uptime",
                "$SYS/uptime",
                1,
                "a wildcard (`+`) at the first level does not match names that begin with $",
            ),
        ] {
            let found = miss(filter, topic).unwrap();
            assert_eq!((found.level, found.why.to_string().as_str()), (at, words), "{filter} {topic}");
        }
    }
}
