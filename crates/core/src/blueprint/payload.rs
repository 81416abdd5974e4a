//! What messages of a planned topic hold.

use std::{fmt, sync::Arc};

use jsonschema::Validator;
use moorfall_payload::sparkplug::{Fault, decode};
use serde::de::IgnoredAny;
use serde_json::Value;

use super::schema_cost::SchemaError;
use crate::shown::{bytes, count};

/// The longest payload that is held against a schema, bytes.
const LOOKED_INTO: usize = 256 * 1024;

/// A JSON Schema, ready for checking.
#[derive(Clone)]
pub struct Schema {
    document: Value,
    validator: Arc<Validator>,
}

impl fmt::Debug for Schema {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Schema").field(&self.document).finish()
    }
}

impl PartialEq for Schema {
    fn eq(&self, other: &Self) -> bool {
        self.document == other.document
    }
}

impl Schema {
    /// Takes a JSON Schema.
    ///
    /// # Errors
    ///
    /// The schema is none, or costs too much.
    pub fn new(document: Value) -> Result<Self, SchemaError> {
        super::schema_cost::check(&document)?;
        let validator = jsonschema::validator_for(&document)
            .map_err(|error| SchemaError::Invalid { at: error.instance_path().to_string(), why: error.to_string() })?;
        Ok(Self { document, validator: Arc::new(validator) })
    }

    /// The schema itself.
    pub fn document(&self) -> &Value {
        &self.document
    }
}

/// What messages hold.
#[derive(Clone, Debug, Default, PartialEq)]
pub enum Payload {
    /// Anything.
    #[default]
    Bytes,
    /// UTF-8.
    Text,
    /// A decimal number as text.
    Number,
    /// JSON, of this schema if there is one.
    Json(Option<Schema>),
    /// A payload of Sparkplug B.
    Sparkplug,
}

/// In what a payload is not what is planned.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum PayloadFault {
    /// Not UTF-8 from this byte on.
    NotText {
        /// The place of the first byte at fault.
        at: usize,
    },
    /// Text, and not a decimal number; its beginning.
    NotNumber(String),
    /// Not JSON, and why.
    NotJson(String),
    /// Not of Sparkplug B.
    Sparkplug(Fault),
    /// JSON that is too long to be held against a schema; bytes.
    TooLong(usize),
    /// JSON that violates the schema.
    Schema {
        /// Where in the payload, as a JSON pointer; empty for the whole.
        at: String,
        /// How.
        why: String,
    },
}

impl fmt::Display for PayloadFault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::NotText { at } => write!(f, "the payload is not text from byte {} on", count(*at as u64)),
            Self::NotNumber(text) => write!(f, "the payload is not a number: \"{text}\""),
            Self::NotJson(why) => write!(f, "the payload is not JSON: {why}"),
            Self::Sparkplug(fault) => write!(f, "the payload is not of Sparkplug B: {fault}"),
            Self::TooLong(length) => {
                let (length, most) = (bytes(*length as f64), bytes(LOOKED_INTO as f64));
                write!(f, "the payload has {length} of JSON; at most {most} are checked against a schema")
            }
            Self::Schema { at, why } if at.is_empty() => write!(f, "the payload violates the schema: {why}"),
            Self::Schema { at, why } => write!(f, "the payload violates the schema at {at}: {why}"),
        }
    }
}

impl fmt::Display for Payload {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Bytes => "bytes",
            Self::Text => "text",
            Self::Number => "number",
            Self::Json(None) => "JSON",
            Self::Json(Some(_)) => "JSON with a schema",
            Self::Sparkplug => "Sparkplug B",
        })
    }
}

impl Payload {
    /// Whether a payload is of this kind.
    ///
    /// # Errors
    ///
    /// In what it is not.
    pub fn check(&self, payload: &[u8]) -> Result<(), PayloadFault> {
        let text = || std::str::from_utf8(payload).map_err(|error| PayloadFault::NotText { at: error.valid_up_to() });
        match self {
            Self::Bytes => Ok(()),
            Self::Text => text().map(drop),
            Self::Number => {
                let number = text()?.trim();
                number.parse::<f64>().map(drop).map_err(|_| PayloadFault::NotNumber(shortened(number)))
            }
            Self::Sparkplug => decode(payload).map(drop).map_err(PayloadFault::Sparkplug),
            Self::Json(Some(_)) if payload.len() > LOOKED_INTO => Err(PayloadFault::TooLong(payload.len())),
            // Nothing is made of what is only to be well formed.
            Self::Json(None) if text().is_ok_and(|text| serde_json::from_str::<IgnoredAny>(text).is_ok()) => Ok(()),
            Self::Json(schema) => {
                let value: Value =
                    serde_json::from_slice(payload).map_err(|error| PayloadFault::NotJson(error.to_string()))?;
                let Some(schema) = schema else { return Ok(()) };
                schema.validator.validate(&value).map_err(|error| PayloadFault::Schema {
                    at: shortened(&error.instance_path().to_string()),
                    why: shortened(&error.to_string()),
                })
            }
        }
    }
}

fn shortened(text: &str) -> String {
    let short: String = text.chars().take(120).collect();
    if short.len() < text.len() { format!("{short}…") } else { short }
}
