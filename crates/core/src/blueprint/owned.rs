//! Owned topics of a blueprint: of several that publish to one, the strongest alone is heard.

use std::{collections::BTreeMap, fmt, time::Duration};

use moorfall_wire::UserProperty;

use super::{PathLevel, Span};
use crate::{AttributeValue, TopicSet};

/// Topics each of which has one owner at a time.
#[derive(Clone, Debug)]
pub struct Owned {
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
    /// How strong a publisher is.
    pub strength: StrengthOf,
    /// How long an owner may say nothing before it is one no more; for ever if absent.
    pub silent_after: Option<Duration>,
}

/// What tells how strong a publisher is. Whoever has none, or one that is no number, is weaker than all others.
#[derive(Clone, Debug, PartialEq)]
pub enum StrengthOf {
    /// An attribute of its identity.
    Attribute(String),
    /// A user property of its messages (§3.3.2.3.7).
    Property {
        /// The property's name.
        name: String,
        /// The least that counts.
        least: f64,
        /// The greatest that counts.
        greatest: f64,
    },
}

impl StrengthOf {
    /// How strong the publisher of a message is.
    pub fn of<'a>(
        &self,
        attributes: impl FnOnce() -> Option<&'a BTreeMap<String, AttributeValue>>,
        properties: &[UserProperty],
    ) -> Option<f64> {
        match self {
            Self::Attribute(name) => match attributes()?.get(name)? {
                AttributeValue::Number(number) => Some(*number).filter(|number| number.is_finite()),
                AttributeValue::Truth(_) | AttributeValue::Text(_) => None,
            },
            Self::Property { name, least, greatest } => {
                let property = properties.iter().find(|property| *property.name == **name)?;
                let number: f64 = property.value.parse().ok()?;
                // What is no number is not in any range.
                (*least..=*greatest).contains(&number).then_some(number)
            }
        }
    }
}

impl fmt::Display for StrengthOf {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Attribute(name) => write!(f, "attribute {name}"),
            Self::Property { name, least, greatest } => write!(f, "user property {name}, {least} to {greatest}"),
        }
    }
}
