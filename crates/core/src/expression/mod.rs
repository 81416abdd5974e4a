//! Expressions in the Common Expression Language: over what is known of an identity, and over a message.
//!
//! Of an identity `attr` is the map of its attributes and `identity` its name. Of a message there are `topic`, `levels`
//! (its levels in a list, from 0), `payload` (its fields if it is JSON, else its text), `qos` and `retained`. What can't
//! be evaluated, as when an attribute or a field is not there, is not true; a [`Condition`] tells it apart. What could cost without bound is refused when
//! it is read.

mod condition;
mod cost;
mod no_value;
mod numbers;
mod payload_value;
mod scan;
mod simple;
mod value;

use std::{
    collections::HashMap,
    fmt,
    sync::{Arc, LazyLock},
};

use cel::{
    Context, Env, Program, Value,
    common::{
        ast::IdedExpr,
        types::{CelBool, CelDouble, CelMap, CelMapKey, CelString},
        value::CowVal,
    },
    context::VariableResolver,
};

use crate::{AttributeValue, Identity};

pub use self::condition::{Condition, Judged, Judging};
pub use self::no_value::NoValue;
pub use self::payload_value::PayloadValue;
pub(crate) use self::payload_value::payload_of;
pub(crate) use self::value::scaled;
pub use self::value::{Known, MessageFields, Scalar, ValueExpression};

/// The longest expression, bytes: what it takes to read one grows with its square.
const LENGTH: usize = 1_000;

/// The longest payload that is looked into, bytes. Of a longer one nothing is true.
const PAYLOAD: usize = 256 * 1024;

/// Brackets within brackets.
const DEPTH: usize = 24;

/// The stack that reading and evaluating have to themselves, bytes: each level takes much of it, above all in a program
/// that was not optimised.
const STACK: usize = 16 * 1024 * 1024;

/// What goes through a list.
const LOOPS: [&str; 5] = [".all", ".exists", ".map", ".filter", ".sortBy"];

/// How often that may stand in an expression.
const MOST_LOOPS: usize = 6;

/// The language's own functions, which take longer to gather than most expressions to evaluate.
static FUNCTIONS: LazyLock<Arc<Env>> = LazyLock::new(|| Arc::new(Env::stdlib()));

/// Why an expression that gives a number or a text is no condition.
static NOT_TRUTH: LazyLock<ExpressionError> = LazyLock::new(|| ExpressionError {
    at: 0,
    message: "the expression must be true or false; compare with ==, <, in or startsWith()".into(),
});

/// What an expression may name.
struct Names<'a> {
    known: &'a [&'a str],
    /// What to write instead of something else.
    remedy: &'a str,
}

const OF_IDENTITY: Names<'_> =
    Names { known: &["attr", "identity"], remedy: "write attr.NAME for an attribute, or identity" };

/// Why an expression can't be used.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct ExpressionError {
    /// Where, in bytes from its beginning.
    pub at: usize,
    /// What is wrong.
    pub message: String,
}

/// An expression that was read.
#[derive(Clone)]
struct Compiled {
    text: String,
    program: Arc<Program>,
    /// The same with whole numbers in sums turned into the other kind, if there are some.
    in_one_kind: Option<Arc<IdedExpr>>,
    /// Steps that it can take at most.
    steps: u64,
}

impl fmt::Debug for Compiled {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl PartialEq for Compiled {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

impl Compiled {
    fn parse(text: &str, names: &Names<'_>) -> Result<Self, ExpressionError> {
        check_size(text)?;
        stacker::grow(STACK, || Self::parse_here(text, names))
    }

    fn parse_here(text: &str, names: &Names<'_>) -> Result<Self, ExpressionError> {
        let program = Program::compile(text).map_err(|errors| {
            let first = errors.errors.first();
            let at = first.map_or(0, |error| byte_of(text, error.pos.0, error.pos.1));
            let message = first.map_or_else(|| errors.to_string(), |error| error.msg.clone());
            ExpressionError { at, message: plain(&message, &text[at..]) }
        })?;
        let (loops, steps) = cost::check(program.expression(), names.known).map_err(|dear| {
            let at = program.source_info().offset_for(dear.id).map_or(0, |(start, _)| start as usize);
            ExpressionError { at: at.min(text.len()), message: dear.words }
        })?;
        let named = program.references();
        if let Some(unknown) =
            named.variables().into_iter().find(|name| !names.known.contains(name) && !loops.contains(*name))
        {
            let message = format!("`{unknown}` is unknown here; {}", names.remedy);
            return Err(ExpressionError { at: text.find(unknown).unwrap_or(0), message });
        }
        drop(named);
        let in_one_kind = numbers::in_one_kind(program.expression()).map(Arc::new);
        Ok(Self { text: text.to_owned(), program: Arc::new(program), in_one_kind, steps })
    }

    /// Refuses what gives something else than true or false. What can't be evaluated here may be true elsewhere.
    fn checked<E>(self, example: Result<Value, E>) -> Result<Self, ExpressionError> {
        match example {
            Ok(Value::Bool(_)) | Err(_) => Ok(self),
            Ok(_) => Err(NOT_TRUTH.clone()),
        }
    }

    fn value(&self, variables: &dyn VariableResolver) -> cel::ResolveResult {
        let mut context = Context::with_env(Arc::clone(&FUNCTIONS));
        context.set_variable_resolver(variables);
        stacker::maybe_grow(STACK / 16, STACK, || {
            let turned = self.in_one_kind.as_ref().and_then(|turned| context.resolve(turned).ok());
            turned.map_or_else(|| self.program.execute(&context), Ok)
        })
    }
}

/// An expression that is true or false of an identity.
#[derive(Clone, Debug, PartialEq)]
pub struct Expression(Compiled);

impl fmt::Display for Expression {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0.text)
    }
}

impl Expression {
    /// Reads an expression.
    pub fn parse(text: &str) -> Result<Self, ExpressionError> {
        let expression = Self(Compiled::parse(text, &OF_IDENTITY)?);
        let nobody = Identity { name: "nobody".into(), attributes: Default::default() };
        let example = expression.value(&nobody);
        expression.0.checked(example).map(Self)
    }

    /// Whether it is true of an identity.
    pub fn holds(&self, identity: &Identity) -> bool {
        matches!(self.value(identity), Ok(Value::Bool(true)))
    }

    fn value(&self, identity: &Identity) -> cel::ResolveResult {
        let attributes = identity.attributes.iter().map(|(name, value)| (name.as_str().into(), said(value)));
        let attributes: HashMap<CelMapKey<'_>, PayloadValue<'_>> = attributes.collect();
        self.0.value(&Of { attributes: CelMap::from(attributes), name: &identity.name })
    }
}

/// What expressions over an identity know.
struct Of<'i> {
    attributes: CelMap<'i>,
    name: &'i str,
}

impl VariableResolver for Of<'_> {
    fn resolve<'b>(&'b self, variable: &str) -> Option<CowVal<'b, 'b>> {
        match variable {
            "attr" => Some(CowVal::Borrowed(&self.attributes)),
            "identity" => Some(CowVal::owned(CelString::from(self.name))),
            _ => None,
        }
    }
}

fn said(value: &AttributeValue) -> PayloadValue<'_> {
    match value {
        AttributeValue::Truth(truth) => Box::new(CelBool::from(*truth)),
        AttributeValue::Number(number) => Box::new(CelDouble::from(*number)),
        AttributeValue::Text(text) => Box::new(CelString::from(text.as_str())),
    }
}

fn check_size(text: &str) -> Result<(), ExpressionError> {
    if text.len() > LENGTH {
        let message = format!("the expression has {} bytes; the limit is {LENGTH}", text.len());
        return Err(ExpressionError { at: LENGTH, message });
    }
    // What stands in quotes is counted too: a text with so many brackets is rare.
    let (mut brackets, mut prefixes, mut choices) = (0_usize, 0_usize, 0_usize);
    for (at, character) in text.char_indices() {
        match character {
            '(' | '[' | '{' => brackets += 1,
            ')' | ']' | '}' => brackets = brackets.saturating_sub(1),
            '?' => choices += 1,
            _ => {}
        }
        match character {
            '!' | '-' => prefixes += 1,
            c if c.is_whitespace() => {}
            _ => prefixes = 0,
        }
        if brackets.max(prefixes).max(choices) > DEPTH {
            let message = format!("the expression is nested too deeply; the limit is {DEPTH} levels");
            return Err(ExpressionError { at, message });
        }
    }
    // Each grows into a nest of its own when it is read, so they are counted before.
    let mut loops = LOOPS.iter().flat_map(|name| text.match_indices(name)).map(|(at, _)| at).collect::<Vec<_>>();
    loops.sort_unstable();
    match loops.get(MOST_LOOPS) {
        Some(at) => {
            let message = format!("all(), exists(), map() and filter() appear more than {MOST_LOOPS} times");
            Err(ExpressionError { at: *at, message })
        }
        None => Ok(()),
    }
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
        return "unknown operator `=`; compare with ==".into();
    }
    let here: String = rest.chars().take(12).collect();
    if message.starts_with("Syntax error") {
        return format!("`{here}` is not allowed here");
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
            ("kind == 'station'", 0, "`kind` is unknown here; write attr.NAME"),
            ("attr.sensors > 1 && nosuch", 20, "`nosuch` is unknown"),
            ("1 + 1", 0, "true or false"),
            ("(attr.kind", 10, "not complete"),
            ("attr.kind == 'station' )", 23, "`)` is not allowed here"),
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

    #[test]
    fn a_message_is_seen_with_its_fields() {
        let topic = "harrowmere/gorge/kettle-weir/stage/level";
        let payload = br#"{"m": 1.83, "n": 2, "quality": "good", "pumps": [{"on": true}]}"#;
        for (text, expected) in [
            ("payload.m > 1.8", true),
            ("payload.n == 2 && payload.m < 2", true),
            ("payload.quality != 'good'", false),
            ("levels[1] == 'gorge' && qos == 1", true),
            ("topic.endsWith('/level') && !retained", true),
            ("payload.pumps[0].on", true),
            ("payload.missing > 1", false),
            ("payload.m * 100 > 182 && payload.m * 100 < 184", true),
            ("has(payload.m)", true),
            ("levels[9] == 'x'", false),
            ("size(levels) == 5", true),
        ] {
            assert_eq!(Condition::parse(text).unwrap().holds(topic, payload, 1, false), expected, "{text}");
        }
        let status = Condition::parse("payload == 'online' && retained").unwrap();
        assert!(status.holds("a", b"online", 0, true) && !status.holds("a", b"offline", 0, true));
        let error = Condition::parse("attr.kind == 'x'").unwrap_err();
        assert!(error.message.contains("payload.FIELD"), "{error}");
        assert!(Condition::parse("qos + 1").is_err());
    }

    /// What doubles a text, or loops within a loop, is as short as this.
    #[test]
    fn what_could_cost_without_bound_is_not_read() {
        let doubling = format!(
            "{}size(x0) > 0{}",
            (1..20).rev().map(|n| format!("[x{n} + x{n}].exists(x{}, ", n - 1)).collect::<String>().replacen(
                "x19 + x19",
                "identity + identity",
                1
            ),
            ")".repeat(19)
        );
        for nested in ["(", "[", "{1: ", "!", "-", "true ? true : "] {
            let closing = match nested {
                "(" => ")",
                "[" => "]",
                "{1: " => "}",
                _ => "",
            };
            // Read on the stack of a thread as it usually is, whatever comes of it.
            let _read = Expression::parse(&format!("{}true{}", nested.repeat(DEPTH), closing.repeat(DEPTH)));
        }
        let _read = Expression::parse(&format!("true{}", " && true".repeat(120)));
        let deep = "[1,2,3,4,5,6,7,8].all(a, [1,2,3,4,5,6,7,8].all(b, [1,2,3,4,5,6,7,8].all(c, a + b + c > 0)))";
        let chained = "[identity].map(a, [a, a]).map(b, [b, b]).exists(c, size(c) > 0)";
        for (text, words) in [
            (doubling.as_str(), "more than 6 times"),
            (deep, "loop inside a loop"),
            (chained, "loop inside a loop"),
            ("['a'].exists(a, size(a + identity) > 3)", "`+` in a loop is only for numbers"),
            ("['a'].exists(identity, identity == 'a')", "already has a meaning"),
            ("['a'].exists(attr, attr == 'a')", "already has a meaning"),
            (&format!("size({}) > 1", vec!["identity"; 20].join(" + ")), "more than 16 times"),
            ("identity.matches(attr.pattern)", "literal pattern"),
            ("identity.matches('(a{1000}){1000}')", "larger than"),
            ("identity.matches('(')", "invalid pattern"),
            ("['a'].exists(x, identity.matches('^a'))", "is not allowed in a loop"),
            (&format!("attr.exists(a, a in [{}])", vec!["'aaaaaa'"; 80].join(",")), "steps each time"),
        ] {
            let error = Expression::parse(text).unwrap_err();
            assert!(error.message.contains(words), "{text}: {error}");
            assert!(error.at <= text.len());
        }
        for text in [
            "['station', 'gauge'].exists(kind, attr.kind == kind)",
            "attr.all(name, name != 'secret')",
            "[1, 2, 3].map(x, x + 1).size() == 3",
            "[1, 2, 3].filter(x, x > 1).size() == 2",
            "[1, 2].exists_one(x, x + 1 == 3)",
            "identity + '-' + attr.kind == 'kettle-weir-station'",
            "identity.matches('^kettle-') && attr.kind.matches('st.*')",
        ] {
            assert!(Expression::parse(text).unwrap().holds(&weir()), "{text}");
        }
    }

    #[test]
    fn a_long_payload_is_not_looked_into() {
        let any = Condition::parse("payload.all(x, x > 0)").unwrap();
        let list = |count: usize| format!("[{}]", vec!["1"; count].join(","));
        assert!(any.holds("a", list(400).as_bytes(), 0, false));
        assert!(!any.holds("a", list(2_000).as_bytes(), 0, false));
        let text = Condition::parse("size(payload) > 1").unwrap();
        assert!(
            text.holds("a", &vec![b'x'; PAYLOAD], 0, false) && !text.holds("a", &vec![b'x'; PAYLOAD + 1], 0, false)
        );
    }
}
