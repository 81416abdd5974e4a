//! What a JSON Schema can cost each time that a payload is held against it, told before it is taken: a schema of a few
//! hundred bytes can double what is looked at with each `$ref`.

use std::collections::HashMap;

use regex::RegexBuilder;
use serde_json::Value;

/// Parts of a schema at most, each `$ref` counted as what it leads to.
const PARTS: u64 = 1_000;

/// Parts within parts.
const DEPTH: usize = 32;

/// Patterns, and the size of each when it is made ready, bytes.
const PATTERNS: usize = 32;
const PATTERN_SIZE: usize = 64 * 1024;

/// Keywords by which a schema leads elsewhere than by `$ref`.
const ELSEWHERE: [&str; 4] = ["$dynamicRef", "$recursiveRef", "$dynamicAnchor", "$recursiveAnchor"];

/// Why a schema is not taken.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum SchemaError {
    /// It is none.
    #[error("invalid JSON Schema{}: {why}", if .at.is_empty() { String::new() } else { format!(" at {at}") })]
    Invalid {
        /// Where in it, as a JSON pointer; empty for the whole.
        at: String,
        /// What is wrong.
        why: String,
    },
    /// It has too many parts.
    #[error("the schema has {0} parts, counting what each `$ref` leads to; the limit is {PARTS}")]
    Parts(u64),
    /// It is nested too deeply.
    #[error("the schema is nested too deeply; the limit is {DEPTH} levels")]
    Depth,
    /// It leads elsewhere by this keyword.
    #[error("`{0}` is not supported in a schema; write a `$ref` that begins with #")]
    Keyword(String),
    /// It leads out of itself.
    #[error("`$ref` leads outside the schema, to {0}; write one that begins with #")]
    Outside(String),
    /// It refers to itself.
    #[error("the schema refers to itself through {0}, which may never end")]
    Circle(String),
    /// It refers to what is not there.
    #[error("`$ref` leads to {0}, which does not exist")]
    Absent(String),
    /// It has too many patterns.
    #[error("the schema has more than {PATTERNS} patterns")]
    Patterns,
    /// One of them is too large.
    #[error("a compiled pattern of the schema is larger than {PATTERN_SIZE} bytes")]
    PatternSize,
}

/// Whether a schema costs too much.
pub(super) fn check(document: &Value) -> Result<(), SchemaError> {
    let mut walk = Walk { document, known: HashMap::new(), on_the_way: Vec::new(), patterns: 0 };
    let parts = walk.parts(document, 0)?;
    if parts > PARTS {
        return Err(SchemaError::Parts(parts));
    }
    Ok(())
}

struct Walk<'a> {
    document: &'a Value,
    /// Parts of what a `$ref` leads to.
    known: HashMap<&'a str, u64>,
    on_the_way: Vec<&'a str>,
    patterns: usize,
}

impl<'a> Walk<'a> {
    fn parts(&mut self, value: &'a Value, depth: usize) -> Result<u64, SchemaError> {
        if depth > DEPTH {
            return Err(SchemaError::Depth);
        }
        match value {
            Value::Array(items) => {
                items.iter().try_fold(0_u64, |sum, item| Ok(sum.saturating_add(self.parts(item, depth + 1)?)))
            }
            Value::Object(fields) => {
                let mut sum = 1_u64;
                for (name, value) in fields {
                    sum = sum.saturating_add(self.field(name, value, depth)?);
                }
                Ok(sum)
            }
            _ => Ok(1),
        }
    }

    fn field(&mut self, name: &'a str, value: &'a Value, depth: usize) -> Result<u64, SchemaError> {
        match (name, value) {
            // They cost where they are referred to.
            ("$defs" | "definitions", _) => Ok(0),
            ("$ref", Value::String(to)) => self.referred(to, depth),
            ("pattern", Value::String(pattern)) => self.pattern(pattern).map(|()| 1),
            ("patternProperties", Value::Object(patterns)) => {
                patterns.keys().try_for_each(|pattern| self.pattern(pattern))?;
                self.parts(value, depth + 1)
            }
            (name, _) if ELSEWHERE.contains(&name) => Err(SchemaError::Keyword(name.into())),
            _ => self.parts(value, depth + 1),
        }
    }

    fn referred(&mut self, to: &'a str, depth: usize) -> Result<u64, SchemaError> {
        let Some(pointer) = to.strip_prefix('#') else {
            return Err(SchemaError::Outside(to.into()));
        };
        if self.on_the_way.contains(&to) {
            return Err(SchemaError::Circle(to.into()));
        }
        if let Some(known) = self.known.get(to) {
            return Ok(*known);
        }
        let Some(target) = self.document.pointer(pointer) else {
            return Err(SchemaError::Absent(to.into()));
        };
        self.on_the_way.push(to);
        let parts = self.parts(target, depth + 1);
        self.on_the_way.pop();
        let parts = parts?;
        self.known.insert(to, parts);
        Ok(parts)
    }

    fn pattern(&mut self, pattern: &str) -> Result<(), SchemaError> {
        self.patterns += 1;
        if self.patterns > PATTERNS {
            return Err(SchemaError::Patterns);
        }
        match RegexBuilder::new(pattern).size_limit(PATTERN_SIZE).build() {
            Err(regex::Error::CompiledTooBig(_)) => Err(SchemaError::PatternSize),
            // One that is none is told by the schema's own check, which knows another kind of patterns too.
            _ => Ok(()),
        }
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn a_schema_that_doubles_itself_is_not_taken() {
        let mut definitions = json!({ "a0": { "type": "number" } });
        for number in 1..40 {
            let before = json!({ "$ref": format!("#/$defs/a{}", number - 1) });
            definitions[format!("a{number}")] = json!({ "allOf": [before, before] });
        }
        let doubling = json!({ "$defs": definitions, "$ref": "#/$defs/a9" });
        assert!(check(&doubling).unwrap_err().to_string().contains("the limit is 1000"));
        let modest = json!({ "$defs": definitions, "$ref": "#/$defs/a3" });
        assert_eq!(check(&modest), Ok(()));
    }

    #[test]
    fn what_leads_in_a_circle_or_elsewhere_is_not_taken() {
        for (schema, words) in [
            (json!({ "properties": { "next": { "$ref": "#" } } }), "refers to itself"),
            (json!({ "$ref": "https://harrowmere.example/schema" }), "outside the schema"),
            (json!({ "$ref": "#/$defs/none" }), "does not exist"),
            (json!({ "items": { "$dynamicRef": "#x" } }), "`$dynamicRef` is not supported"),
            (json!({ "pattern": "(a{1000}){1000}" }), "larger than"),
        ] {
            assert!(check(&schema).unwrap_err().to_string().contains(words), "{schema}");
        }
        let mut deep = json!({});
        for _ in 0..40 {
            deep = json!({ "not": deep });
        }
        assert_eq!(check(&deep), Err(SchemaError::Depth));
        let usual =
            json!({ "type": "object", "required": ["m"], "properties": { "m": { "type": "number", "minimum": -1 } } });
        assert_eq!(check(&usual), Ok(()));
    }
}
