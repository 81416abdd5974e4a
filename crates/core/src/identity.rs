//! Who may connect: a person or a device with attributes.

use std::{collections::BTreeMap, fmt, sync::Arc};

use serde::{Deserialize, Serialize};

/// The value of one attribute.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum AttributeValue {
    /// `true` or `false`.
    Truth(bool),
    /// A number.
    Number(f64),
    /// Text.
    Text(String),
}

impl fmt::Display for AttributeValue {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Truth(truth) => truth.fmt(f),
            Self::Number(number) => number.fmt(f),
            Self::Text(text) => f.write_str(text),
        }
    }
}

/// An identity without its credentials, as the access rules see it.
#[derive(Clone, Debug, PartialEq)]
pub struct Identity {
    /// The name, which a client gives as its user name.
    pub name: Arc<str>,
    /// What is known of it, by name.
    pub attributes: BTreeMap<String, AttributeValue>,
}
