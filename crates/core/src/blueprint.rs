//! The blueprint: the declared design of a broker, read from TOML.
//!
//! This much of it exists so far: a name, cohorts by attributes, and access rules.
//!
//! ```toml
//! name = "harrowmere"
//! purpose = "One river, from the moor to the tide"
//!
//! [cohorts.stations]
//! with = { kind = "station" }
//!
//! [[rules]]
//! name = "stations-report"
//! who = { cohort = "stations" }
//! may = ["publish"]
//! topics = ["harrowmere/{attr.reach}/{identity}/#"]
//! ```

use std::{collections::BTreeMap, ops::Range};

use serde::Deserialize;
use toml::Spanned;

use crate::{AttributeValue, access::TopicPattern};

/// A checked blueprint.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Blueprint {
    /// What it is called.
    pub name: String,
    /// What the broker is for, in a sentence.
    pub purpose: String,
    /// Identities by attributes.
    pub cohorts: BTreeMap<String, Cohort>,
    /// Access rules, in the order of the file. The order has no meaning: deny wins.
    pub rules: Vec<Rule>,
}

/// Identities that have all of the given attributes with the given values.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Cohort {
    /// A sentence for people.
    #[serde(default)]
    pub purpose: String,
    /// The attributes.
    pub with: BTreeMap<String, AttributeValue>,
}

/// Whom a rule is about.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Who {
    /// One identity, by name.
    Identity(String),
    /// All identities of a cohort.
    Cohort(String),
    /// Every identity.
    Everyone,
}

/// What a rule is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Act {
    /// Sending messages.
    Publish,
    /// Asking for messages.
    Subscribe,
}

/// What a rule does.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Effect {
    /// It lets the act happen, unless another rule denies it.
    #[default]
    Allow,
    /// It forbids the act, whatever other rules say.
    Deny,
}

/// Who may, or must not, publish or subscribe to what.
#[derive(Clone, Debug, PartialEq)]
pub struct Rule {
    /// Its name, which refusals mention.
    pub name: String,
    /// A sentence for people.
    pub purpose: String,
    /// Allow or deny.
    pub effect: Effect,
    /// Whom it is about.
    pub who: Who,
    /// Which acts it is about.
    pub acts: Vec<Act>,
    /// Which topics.
    pub topics: Vec<TopicPattern>,
}

/// What is wrong with a blueprint, and where.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("line {line}, column {column}: {message}\n{excerpt}")]
pub struct BlueprintError {
    /// Line, from 1.
    pub line: usize,
    /// Column in characters, from 1.
    pub column: usize,
    /// What is wrong, and the remedy.
    pub message: String,
    /// The line itself with carets below the place.
    pub excerpt: String,
}

impl BlueprintError {
    fn new(source: &str, span: Range<usize>, message: impl Into<String>) -> Self {
        let start = source.floor_char_boundary(span.start.min(source.len()));
        let line_start = source[..start].rfind('\n').map_or(0, |at| at + 1);
        let line_end = source[start..].find('\n').map_or(source.len(), |at| start + at);
        let text = &source[line_start..line_end];
        let line = source[..start].matches('\n').count() + 1;
        let before = source[line_start..start].chars().count();
        let width = source[start..source.floor_char_boundary(span.end.clamp(start, line_end))].chars().count().max(1);
        let number = line.to_string();
        let gutter = " ".repeat(number.len());
        let excerpt = format!("{number} | {text}\n{gutter} | {}{}", " ".repeat(before), "^".repeat(width));
        Self { line, column: before + 1, message: message.into(), excerpt }
    }
}

/// The file as it is written, before its names and patterns are checked.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct BlueprintFile {
    name: String,
    #[serde(default)]
    purpose: String,
    #[serde(default)]
    cohorts: BTreeMap<String, Cohort>,
    #[serde(default)]
    rules: Vec<RuleEntry>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RuleEntry {
    name: Spanned<String>,
    #[serde(default)]
    purpose: String,
    #[serde(default)]
    effect: Effect,
    who: Spanned<Who>,
    may: Spanned<Vec<Act>>,
    topics: Spanned<Vec<Spanned<String>>>,
}

impl Blueprint {
    /// Reads and checks a blueprint; the error names the first fault and its place.
    pub fn parse(source: &str) -> Result<Self, BlueprintError> {
        let file: BlueprintFile = toml::from_str(source)
            .map_err(|error| BlueprintError::new(source, error.span().unwrap_or(0..0), error.message()))?;
        let mut blueprint = Self { name: file.name, purpose: file.purpose, cohorts: file.cohorts, rules: Vec::new() };
        for entry in file.rules {
            let rule = blueprint.check_rule(source, entry)?;
            blueprint.rules.push(rule);
        }
        Ok(blueprint)
    }

    fn check_rule(&self, source: &str, entry: RuleEntry) -> Result<Rule, BlueprintError> {
        let wrong = |span: Range<usize>, message: String| BlueprintError::new(source, span, message);
        let name = entry.name.get_ref();
        if name.is_empty() {
            return Err(wrong(entry.name.span(), "a rule needs a name, which refusals will mention".into()));
        }
        if self.rules.iter().any(|rule| rule.name == *name) {
            let message = format!("two rules are named `{name}`; give each a name of its own");
            return Err(wrong(entry.name.span(), message));
        }
        if let Who::Cohort(cohort) = entry.who.get_ref()
            && !self.cohorts.contains_key(cohort)
        {
            let known: Vec<&str> = self.cohorts.keys().map(String::as_str).collect();
            let message = format!("there is no cohort `{cohort}`; this blueprint has: {}", known.join(", "));
            return Err(wrong(entry.who.span(), message));
        }
        if entry.may.get_ref().is_empty() {
            return Err(wrong(entry.may.span(), "`may` names no act; say publish, subscribe or both".into()));
        }
        if entry.topics.get_ref().is_empty() {
            return Err(wrong(entry.topics.span(), "`topics` is empty; a rule needs at least one filter".into()));
        }
        let topics = entry.topics.get_ref().iter().map(|pattern| {
            TopicPattern::parse(pattern.get_ref()).map_err(|error| wrong(pattern.span(), error.to_string()))
        });
        Ok(Rule {
            topics: topics.collect::<Result<_, _>>()?,
            purpose: entry.purpose,
            effect: entry.effect,
            acts: entry.may.into_inner(),
            who: entry.who.into_inner(),
            name: entry.name.into_inner(),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const RULE: &str = "name = \"harrowmere\"\n[cohorts.stations]\nwith = { kind = \"station\" }\n[[rules]]\nname = \"report\"\nwho = { cohort = \"stations\" }\nmay = [\"publish\"]\ntopics = [\"harrowmere/{attr.reach}/{identity}/#\"]\n";

    #[test]
    fn a_whole_blueprint_is_read() {
        let blueprint = Blueprint::parse(RULE).unwrap();
        assert_eq!(blueprint.rules[0].who, Who::Cohort("stations".into()));
        assert_eq!(blueprint.rules[0].effect, Effect::Allow);
        assert_eq!(blueprint.cohorts["stations"].with["kind"], AttributeValue::Text("station".into()));
    }

    #[test]
    fn faults_are_pointed_at() {
        for (from, to, message, line, pointed) in [
            (
                "\"stations\" }\nmay",
                "\"pumps\" }\nmay",
                "there is no cohort `pumps`; this blueprint has: stations",
                6,
                "{ cohort",
            ),
            ("identity}", "name}", "`{name}` is not known", 8, "\"harrowmere/"),
            ("[\"publish\"]", "[\"write\"]", "unknown variant `write`", 7, "\"write\""),
            ("[\"publish\"]", "[]", "`may` names no act", 7, "[]"),
            ("may =", "might =", "unknown field `might`", 7, "might"),
        ] {
            let error = Blueprint::parse(&RULE.replace(from, to)).unwrap_err();
            assert!(error.message.contains(message), "{error}");
            assert_eq!(error.line, line, "{error}");
            let lines: Vec<&str> = error.excerpt.lines().collect();
            let at = lines[1].find('^').unwrap();
            assert!(lines[0][at..].starts_with(pointed), "{error}");
        }
    }

    #[test]
    fn two_rules_of_one_name_are_refused() {
        let rule = &RULE[RULE.find("[[rules]]").unwrap()..];
        let error = Blueprint::parse(&format!("{RULE}{rule}")).unwrap_err();
        assert!(error.message.starts_with("two rules are named `report`"), "{error}");
    }
}
