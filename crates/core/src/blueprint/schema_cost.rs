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

/// Why a schema costs too much, in a sentence.
pub(super) fn check(document: &Value) -> Result<(), String> {
    let mut walk = Walk { document, known: HashMap::new(), on_the_way: Vec::new(), patterns: 0 };
    let parts = walk.parts(document, 0)?;
    if parts > PARTS {
        return Err(format!(
            "the schema has {parts} parts, each `$ref` counted as what it leads to; at most {PARTS} may be"
        ));
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
    fn parts(&mut self, value: &'a Value, depth: usize) -> Result<u64, String> {
        if depth > DEPTH {
            return Err(format!("the schema is nested too deeply; at most {DEPTH} levels are taken"));
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

    fn field(&mut self, name: &'a str, value: &'a Value, depth: usize) -> Result<u64, String> {
        match (name, value) {
            // They cost where they are referred to.
            ("$defs" | "definitions", _) => Ok(0),
            ("$ref", Value::String(to)) => self.referred(to, depth),
            ("pattern", Value::String(pattern)) => self.pattern(pattern).map(|()| 1),
            ("patternProperties", Value::Object(patterns)) => {
                patterns.keys().try_for_each(|pattern| self.pattern(pattern))?;
                self.parts(value, depth + 1)
            }
            (name, _) if ELSEWHERE.contains(&name) => {
                Err(format!("`{name}` is not taken in a schema here; write a `$ref` that begins with #"))
            }
            _ => self.parts(value, depth + 1),
        }
    }

    fn referred(&mut self, to: &'a str, depth: usize) -> Result<u64, String> {
        let Some(pointer) = to.strip_prefix('#') else {
            return Err(format!("`$ref` leads to {to}, outside of the schema; write one that begins with #"));
        };
        if self.on_the_way.contains(&to) {
            return Err(format!("the schema refers to itself by {to}, which could go on without end"));
        }
        if let Some(known) = self.known.get(to) {
            return Ok(*known);
        }
        let Some(target) = self.document.pointer(pointer) else {
            return Err(format!("`$ref` leads to {to}, which is not there"));
        };
        self.on_the_way.push(to);
        let parts = self.parts(target, depth + 1);
        self.on_the_way.pop();
        let parts = parts?;
        self.known.insert(to, parts);
        Ok(parts)
    }

    fn pattern(&mut self, pattern: &str) -> Result<(), String> {
        self.patterns += 1;
        if self.patterns > PATTERNS {
            return Err(format!("the schema has more than {PATTERNS} patterns"));
        }
        match RegexBuilder::new(pattern).size_limit(PATTERN_SIZE).build() {
            Err(regex::Error::CompiledTooBig(_)) => {
                Err(format!("a pattern of the schema is larger than {PATTERN_SIZE} bytes when it is made ready"))
            }
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
        assert!(check(&doubling).unwrap_err().contains("at most 1000 may be"));
        let modest = json!({ "$defs": definitions, "$ref": "#/$defs/a3" });
        assert_eq!(check(&modest), Ok(()));
    }

    #[test]
    fn what_leads_in_a_circle_or_elsewhere_is_not_taken() {
        for (schema, words) in [
            (json!({ "properties": { "next": { "$ref": "#" } } }), "refers to itself"),
            (json!({ "$ref": "https://harrowmere.example/schema" }), "outside of the schema"),
            (json!({ "$ref": "#/$defs/none" }), "not there"),
            (json!({ "items": { "$dynamicRef": "#x" } }), "`$dynamicRef` is not taken"),
            (json!({ "pattern": "(a{1000}){1000}" }), "larger than"),
        ] {
            assert!(check(&schema).unwrap_err().contains(words), "{schema}");
        }
        let mut deep = json!({});
        for _ in 0..40 {
            deep = json!({ "not": deep });
        }
        assert!(check(&deep).unwrap_err().contains("nested too deeply"));
        let usual =
            json!({ "type": "object", "required": ["m"], "properties": { "m": { "type": "number", "minimum": -1 } } });
        assert_eq!(check(&usual), Ok(()));
    }
}
