//! Comparisons of payload fields: conditions that most want, judged by looking at the payload once and without building what
//! it says.

use std::{borrow::Cow, cmp::Ordering};

use cel::common::ast::{Expr, IdedExpr, LiteralValue, operators};

use super::scan::{Fields, Found};

/// A condition that compares fields with each other and with what is written.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Simple {
    test: Test,
    /// What is looked for in the payload.
    payload: Fields,
    /// What is looked for in the payload before.
    before: Fields,
}

#[derive(Clone, Debug, PartialEq)]
enum Test {
    All(Box<[Test; 2]>),
    Any(Box<[Test; 2]>),
    Not(Box<Test>),
    /// The operand itself is true.
    Truth(Operand),
    Compare(Operand, Comparison, Operand),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Comparison {
    Equal,
    Unequal,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
}

#[derive(Clone, Debug, PartialEq)]
enum Operand {
    /// A field of the payload, by its place.
    Payload(usize),
    /// A field of the payload before.
    Before(usize),
    Null,
    Truth(bool),
    Number(f64),
    Text(Box<str>),
}

/// Why there is no verdict.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum NoVerdict {
    /// A field is missing, or two can't be compared.
    Failed,
    /// This way can't tell.
    Unknown,
}

impl Simple {
    /// The expression in this form; `None` if it says more.
    pub(super) fn new(root: &IdedExpr) -> Option<Self> {
        let (mut payload, mut before) = (Fields::default(), Fields::default());
        let test = test(root, &mut payload, &mut before)?;
        Some(Self { test, payload, before })
    }

    /// Whether it is true of a message, with the payload before on its topic.
    pub(super) fn is_true(&self, payload: &[u8], before: Option<&[u8]>) -> Result<bool, NoVerdict> {
        let payload = self.payload.find(payload).ok_or(NoVerdict::Unknown)?;
        let before = match before {
            Some(before) => self.before.find(before).ok_or(NoVerdict::Unknown)?,
            None => self.before.nothing(),
        };
        self.test.is_true(&payload, &before)
    }
}

fn test(node: &IdedExpr, payload: &mut Fields, before: &mut Fields) -> Option<Test> {
    let Expr::Call(call) = &node.expr else { return operand(node, payload, before).map(Test::Truth) };
    if call.target.is_some() {
        return None;
    }
    let comparison = match (call.func_name.as_str(), call.args.as_slice()) {
        (operators::LOGICAL_AND, [one, other]) => {
            return Some(Test::All(Box::new([test(one, payload, before)?, test(other, payload, before)?])));
        }
        (operators::LOGICAL_OR, [one, other]) => {
            return Some(Test::Any(Box::new([test(one, payload, before)?, test(other, payload, before)?])));
        }
        (operators::LOGICAL_NOT, [one]) => return Some(Test::Not(Box::new(test(one, payload, before)?))),
        (operators::EQUALS, _) => Comparison::Equal,
        (operators::NOT_EQUALS, _) => Comparison::Unequal,
        (operators::LESS, _) => Comparison::Less,
        (operators::LESS_EQUALS, _) => Comparison::LessOrEqual,
        (operators::GREATER, _) => Comparison::Greater,
        (operators::GREATER_EQUALS, _) => Comparison::GreaterOrEqual,
        _ => return operand(node, payload, before).map(Test::Truth),
    };
    let [one, other] = call.args.as_slice() else { return None };
    Some(Test::Compare(operand(one, payload, before)?, comparison, operand(other, payload, before)?))
}

fn operand(node: &IdedExpr, payload: &mut Fields, before: &mut Fields) -> Option<Operand> {
    match &node.expr {
        Expr::Literal(literal) => match literal {
            LiteralValue::Boolean(truth) => Some(Operand::Truth(*truth.inner())),
            LiteralValue::Double(number) => Some(Operand::Number(*number.inner())),
            #[allow(clippy::cast_precision_loss, reason = "as a number of JSON has no more digits")]
            LiteralValue::Int(number) => Some(Operand::Number(*number.inner() as f64)),
            LiteralValue::String(text) => Some(Operand::Text(text.inner().into())),
            LiteralValue::Null => Some(Operand::Null),
            LiteralValue::Bytes(_) | LiteralValue::UInt(_) => None,
        },
        Expr::Call(call) if call.func_name == operators::NEGATE => {
            match operand(call.args.first()?, payload, before)? {
                Operand::Number(number) => Some(Operand::Number(-number)),
                _ => None,
            }
        }
        _ => {
            let mut path = Vec::new();
            let mut node = node;
            while let Expr::Select(select) = &node.expr {
                if select.test {
                    return None;
                }
                path.push(select.field.as_str().into());
                node = &select.operand;
            }
            path.reverse();
            match &node.expr {
                Expr::Ident(name) if name == "payload" => payload.place(path).map(Operand::Payload),
                Expr::Ident(name) if name == "before" => before.place(path).map(Operand::Before),
                _ => None,
            }
        }
    }
}

impl Test {
    /// What is certain by one side alone does not ask for the other, as the language wants it.
    fn is_true(&self, payload: &[Found<'_>], before: &[Found<'_>]) -> Result<bool, NoVerdict> {
        match self {
            Self::All(both) => decided(both, false, payload, before),
            Self::Any(both) => decided(both, true, payload, before),
            Self::Not(test) => test.is_true(payload, before).map(|truth| !truth),
            Self::Truth(operand) => match &*operand.value(payload, before)? {
                Found::Truth(truth) => Ok(*truth),
                _ => Err(NoVerdict::Unknown),
            },
            Self::Compare(one, comparison, other) => {
                compare(&*one.value(payload, before)?, *comparison, &*other.value(payload, before)?)
            }
        }
    }
}

/// Of two tests: what decides by itself, whichever says it; else what the other says.
fn decided(both: &[Test; 2], decides: bool, payload: &[Found<'_>], before: &[Found<'_>]) -> Result<bool, NoVerdict> {
    let one = both[0].is_true(payload, before);
    if one == Ok(decides) {
        return one;
    }
    match (one, both[1].is_true(payload, before)) {
        (_, Ok(truth)) if truth == decides => Ok(truth),
        // It may decide.
        (Err(NoVerdict::Unknown), _) | (_, Err(NoVerdict::Unknown)) => Err(NoVerdict::Unknown),
        (Err(NoVerdict::Failed), _) | (_, Err(NoVerdict::Failed)) => Err(NoVerdict::Failed),
        (Ok(_), Ok(_)) => Ok(!decides),
    }
}

fn compare(one: &Found<'_>, comparison: Comparison, other: &Found<'_>) -> Result<bool, NoVerdict> {
    use Comparison::{Equal, Greater, GreaterOrEqual, Less, LessOrEqual, Unequal};
    let order = match (one, other) {
        (Found::Number(one), Found::Number(other)) => one.partial_cmp(other),
        (Found::Text(one), Found::Text(other)) => Some(one.cmp(other)),
        // Whether these can be compared at all is for the language to say.
        (Found::Compound, Found::Compound) => return Err(NoVerdict::Unknown),
        _ => match comparison {
            Equal => return Ok(one == other),
            Unequal => return Ok(one != other),
            _ => return Err(NoVerdict::Unknown),
        },
    };
    Ok(match comparison {
        Equal => order == Some(Ordering::Equal),
        Unequal => order != Some(Ordering::Equal),
        Less => order == Some(Ordering::Less),
        LessOrEqual => order.is_some_and(Ordering::is_le),
        Greater => order == Some(Ordering::Greater),
        GreaterOrEqual => order.is_some_and(Ordering::is_ge),
    })
}

impl Operand {
    fn value<'a>(&'a self, payload: &'a [Found<'a>], before: &'a [Found<'a>]) -> Result<Cow<'a, Found<'a>>, NoVerdict> {
        let found = match self {
            Self::Payload(place) => &payload[*place],
            Self::Before(place) => &before[*place],
            Self::Null => return Ok(Cow::Owned(Found::Null)),
            Self::Truth(truth) => return Ok(Cow::Owned(Found::Truth(*truth))),
            Self::Number(number) => return Ok(Cow::Owned(Found::Number(*number))),
            Self::Text(text) => return Ok(Cow::Owned(Found::Text(Cow::Borrowed(text)))),
        };
        if *found == Found::Missing { Err(NoVerdict::Failed) } else { Ok(Cow::Borrowed(found)) }
    }
}
