//! Who may connect: a person or a device with attributes.

use std::{collections::BTreeMap, fmt, sync::Arc};

use serde::{Deserialize, Serialize};

/// The name under which the owner of the data folder may do everything; its password is the administrator's secret.
pub const ADMINISTRATOR: &str = "administrator";

/// The name of clients without identity.
pub const ANONYMOUS: &str = "anonymous";

/// Names that no identity can have.
pub const BUILT_IN: [&str; 2] = [ADMINISTRATOR, ANONYMOUS];

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

/// What the names of bridges' identities begin with; no other identity has such a name.
pub const BRIDGE: &str = "bridge:";

/// What names of derived topics begin with where they stand for whoever publishes.
pub const DERIVED: &str = "derived:";

impl Identity {
    /// The bridge whose identity has this name, if it is one's.
    pub fn bridge_named(name: &str) -> Option<&str> {
        name.strip_prefix(BRIDGE)
    }

    /// The identity of a bridge.
    pub fn of_bridge(bridge: &str) -> Self {
        let attributes = [("kind", "bridge"), ("bridge", bridge)];
        let attributes = attributes.map(|(name, value)| (name.to_owned(), AttributeValue::Text(value.to_owned())));
        Self { name: format!("{BRIDGE}{bridge}").into(), attributes: attributes.into() }
    }
}
