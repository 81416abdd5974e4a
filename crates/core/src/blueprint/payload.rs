//! What messages of a planned topic hold.

use std::{fmt, sync::Arc};

use jsonschema::Validator;
use serde_json::Value;

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
    /// The schema is none, or costs too much, in a sentence.
    pub fn new(document: Value) -> Result<Self, String> {
        super::schema_cost::check(&document)?;
        let validator = jsonschema::validator_for(&document).map_err(|error| {
            let at = error.instance_path().to_string();
            let at = if at.is_empty() { String::new() } else { format!(" at {at}") };
            format!("not a JSON Schema{at}: {error}")
        })?;
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
}

impl fmt::Display for Payload {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Bytes => "bytes",
            Self::Text => "text",
            Self::Number => "number",
            Self::Json(None) => "json",
            Self::Json(Some(_)) => "json of a schema",
        })
    }
}

impl Payload {
    /// Whether a payload is of this form.
    ///
    /// # Errors
    ///
    /// In what it is not, in a sentence.
    pub fn check(&self, payload: &[u8]) -> Result<(), String> {
        let text =
            || std::str::from_utf8(payload).map_err(|error| format!("not text from byte {} on", error.valid_up_to()));
        match self {
            Self::Bytes => Ok(()),
            Self::Text => text().map(drop),
            Self::Number => {
                let number = text()?.trim();
                number.parse::<f64>().map(drop).map_err(|_| format!("not a number: {:?}", shortened(number)))
            }
            Self::Json(Some(_)) if payload.len() > LOOKED_INTO => {
                Err(format!("{} bytes of JSON; at most {LOOKED_INTO} are held against a schema", payload.len()))
            }
            Self::Json(schema) => {
                let value: Value = serde_json::from_slice(payload).map_err(|error| format!("not JSON: {error}"))?;
                let Some(schema) = schema else { return Ok(()) };
                schema.validator.validate(&value).map_err(|error| {
                    let at = error.instance_path().to_string();
                    let at = if at.is_empty() { String::new() } else { format!(" at {at}") };
                    format!("not of the schema{at}: {}", shortened(&error.to_string()))
                })
            }
        }
    }
}

fn shortened(text: &str) -> String {
    let short: String = text.chars().take(120).collect();
    if short.len() < text.len() { format!("{short}…") } else { short }
}
