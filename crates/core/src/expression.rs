//! Expressions over what is known of an identity, in the Common Expression Language.
//!
//! `attr` is the map of its attributes and `identity` its name. What can't be evaluated, as when an attribute is not
//! there, is not true: an identity that lacks an attribute is in no cohort that asks for it.

use std::{
    collections::HashMap,
    fmt,
    sync::{Arc, LazyLock},
};

use cel::{Context, Env, Program, Value};

use crate::{AttributeValue, Identity};

/// The longest expression, bytes: what it takes to read one grows with its square.
const LENGTH: usize = 1_000;

/// Brackets within brackets.
const DEPTH: usize = 24;

/// The language's own functions, which take longer to gather than most expressions to evaluate.
static FUNCTIONS: LazyLock<Arc<Env>> = LazyLock::new(|| Arc::new(Env::stdlib()));

/// What an expression may name.
const VARIABLES: [&str; 2] = ["attr", "identity"];

/// Why an expression can't be used.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct ExpressionError {
    /// Where, in bytes from its beginning.
    pub at: usize,
    /// What is wrong.
    pub message: String,
}

/// An expression that is true or false of an identity.
#[derive(Clone)]
pub struct Expression {
    text: String,
    program: Arc<Program>,
}

impl fmt::Debug for Expression {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Expression").field(&self.text).finish()
    }
}

impl PartialEq for Expression {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

impl fmt::Display for Expression {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl Expression {
    /// Reads an expression.
    pub fn parse(text: &str) -> Result<Self, ExpressionError> {
        check_size(text)?;
        let program = Program::compile(text).map_err(|errors| {
            let first = errors.errors.first();
            let at = first.map_or(0, |error| byte_of(text, error.pos.0, error.pos.1));
            let message = first.map_or_else(|| errors.to_string(), |error| error.msg.clone());
            ExpressionError { at, message: plain(&message, &text[at..]) }
        })?;
        let named = program.references();
        if let Some(unknown) = named.variables().into_iter().find(|name| !VARIABLES.contains(name)) {
            let message = format!("`{unknown}` is not known here; write attr.NAME for an attribute, or identity");
            return Err(ExpressionError { at: text.find(unknown).unwrap_or(0), message });
        }
        drop(named);
        let expression = Self { text: text.to_owned(), program: Arc::new(program) };
        let nobody = Identity { name: "nobody".into(), attributes: Default::default() };
        match expression.value(&nobody) {
            Ok(Value::Bool(_)) => Ok(expression),
            Ok(_) => {
                let message = "the expression has to be true or false; compare with ==, <, in or startsWith()".into();
                Err(ExpressionError { at: 0, message })
            }
            // It may be true of somebody.
            Err(_) => Ok(expression),
        }
    }

    /// Whether it is true of an identity.
    pub fn holds(&self, identity: &Identity) -> bool {
        matches!(self.value(identity), Ok(Value::Bool(true)))
    }

    fn value(&self, identity: &Identity) -> cel::ResolveResult {
        let attributes: HashMap<String, Value> =
            identity.attributes.iter().map(|(name, value)| (name.clone(), value.into())).collect();
        let mut context = Context::with_env(Arc::clone(&FUNCTIONS));
        context.add_variable_from_value("attr", attributes);
        context.add_variable_from_value("identity", identity.name.to_string());
        self.program.execute(&context)
    }
}

impl From<&AttributeValue> for Value {
    fn from(value: &AttributeValue) -> Self {
        match value {
            AttributeValue::Truth(truth) => Self::Bool(*truth),
            AttributeValue::Number(number) => Self::Float(*number),
            AttributeValue::Text(text) => Self::String(Arc::new(text.clone())),
        }
    }
}

fn check_size(text: &str) -> Result<(), ExpressionError> {
    if text.len() > LENGTH {
        let message = format!("the expression has {} bytes; at most {LENGTH} are taken", text.len());
        return Err(ExpressionError { at: LENGTH, message });
    }
    let mut depth = 0_usize;
    for (at, character) in text.char_indices() {
        match character {
            '(' | '[' | '{' | '!' | '-' | '?' => depth += 1,
            ')' | ']' | '}' => depth = depth.saturating_sub(1),
            _ => {}
        }
        if depth > 4 * DEPTH {
            let message = format!("the expression is nested too deeply; at most {DEPTH} levels are taken");
            return Err(ExpressionError { at, message });
        }
    }
    Ok(())
}

/// The byte of a line and column, both from 1.
fn byte_of(text: &str, line: isize, column: isize) -> usize {
    let line_start = match usize::try_from(line).ok().and_then(|line| line.checked_sub(2)) {
        None => 0,
        Some(before) => text.match_indices('\n').nth(before).map_or(0, |(at, _)| at + 1),
    };
    let column = usize::try_from(column).unwrap_or(1).saturating_sub(1);
    text[line_start..].char_indices().nth(column).map_or(text.len(), |(at, _)| line_start + at)
}

/// A parser's message, without what only the parser's author knows.
fn plain(message: &str, rest: &str) -> String {
    if rest.is_empty() {
        return "the expression is not complete".into();
    }
    if rest.starts_with('=') {
        return "`=` is not known here; compare with ==".into();
    }
    let here: String = rest.chars().take(12).collect();
    if message.starts_with("Syntax error") {
        return format!("`{here}` is not understood here");
    }
    message.to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn weir() -> Identity {
        let attributes = [
            ("kind", AttributeValue::Text("station".into())),
            ("sensors", AttributeValue::Number(2.0)),
            ("remote", AttributeValue::Truth(true)),
        ];
        let attributes = attributes.into_iter().map(|(name, value)| (name.to_owned(), value)).collect();
        Identity { name: "kettle-weir".into(), attributes }
    }

    #[test]
    fn attributes_and_name_are_seen() {
        for (text, expected) in [
            ("attr.kind == 'station'", true),
            ("attr.kind == 'station' && attr.sensors > 1", true),
            ("attr.sensors == 2", true),
            ("attr.remote", true),
            ("!attr.remote", false),
            ("identity.startsWith('kettle')", true),
            ("attr.kind in ['pump', 'model']", false),
            ("attr.kind.matches('^st')", true),
            ("true", true),
        ] {
            assert_eq!(Expression::parse(text).unwrap().holds(&weir()), expected, "{text}");
        }
    }

    #[test]
    fn what_is_not_there_is_not_true() {
        for text in ["attr.reach == 'gorge'", "attr.reach != 'gorge'", "!(attr.reach == 'gorge')"] {
            assert!(!Expression::parse(text).unwrap().holds(&weir()), "{text}");
        }
        assert!(Expression::parse("!has(attr.reach)").unwrap().holds(&weir()));
    }

    #[test]
    fn mistakes_are_pointed_at() {
        for (text, at, message) in [
            ("attr.kind = 'station'", 10, "compare with =="),
            ("attr.kind ==", 12, "not complete"),
            ("kind == 'station'", 0, "`kind` is not known here; write attr.NAME"),
            ("attr.sensors > 1 && nosuch", 20, "`nosuch` is not known"),
            ("1 + 1", 0, "true or false"),
            ("(attr.kind", 10, "not complete"),
            ("attr.kind == 'station' )", 23, "`)` is not understood"),
        ] {
            let error = Expression::parse(text).unwrap_err();
            assert!(error.message.contains(message), "{text}: {error}");
            assert_eq!(error.at, at, "{text}: {error}");
        }
    }

    #[test]
    fn what_would_take_long_is_not_read() {
        let long = format!("true{}", " || true".repeat(1_000));
        assert!(Expression::parse(&long).unwrap_err().message.contains("bytes"));
        let deep = format!("{}true{}", "(".repeat(300), ")".repeat(300));
        assert!(Expression::parse(&deep).unwrap_err().message.contains("nested"));
        let deep = format!("{}true", "!".repeat(900));
        assert!(Expression::parse(&deep).unwrap_err().message.contains("nested"));
    }
}
