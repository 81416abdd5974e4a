//! Comparisons of payload fields: conditions that most want, judged by looking at the payload once and without building what
//! it says.

use std::{borrow::Cow, cmp::Ordering, fmt};

use cel::common::ast::{Expr, IdedExpr, LiteralValue, operators};
use serde::de::{DeserializeSeed, Deserializer, IgnoredAny, MapAccess, SeqAccess, Visitor};
use smallvec::SmallVec;

/// Fields that one condition may look at.
const FIELDS: usize = 16;

/// A condition that compares fields with each other and with what is written.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Simple {
    test: Test,
    /// What is looked for in the payload.
    payload: Fields,
    /// What is looked for in the payload before.
    before: Fields,
}

/// Fields by their paths. That without levels is the payload itself.
#[derive(Clone, Debug, Default, PartialEq)]
struct Fields(Vec<Vec<Box<str>>>);

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

/// What stands at a field.
#[derive(Clone, Debug, Default, PartialEq)]
enum Found<'a> {
    #[default]
    Missing,
    Null,
    Truth(bool),
    Number(f64),
    Text(Cow<'a, str>),
    /// A list or an object.
    Compound,
}

type AllFound<'a> = SmallVec<[Found<'a>; 4]>;

/// Why there is no verdict.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum NoVerdict {
    /// A field is missing, or two can't be compared.
    Failed,
    /// This way can't tell.
    Unknown,
}

impl Fields {
    /// The place of a path; `None` if there are too many.
    fn place(&mut self, path: Vec<Box<str>>) -> Option<usize> {
        if let Some(place) = self.0.iter().position(|known| *known == path) {
            return Some(place);
        }
        self.0.push(path);
        (self.0.len() <= FIELDS).then(|| self.0.len() - 1)
    }

    /// What stands there: in JSON its fields, in anything else the text itself.
    fn find<'a>(&self, payload: &'a [u8]) -> AllFound<'a> {
        let mut found: AllFound<'a> = SmallVec::from_elem(Found::Missing, self.0.len());
        if self.0.is_empty() {
            return found;
        }
        let mut json = serde_json::Deserializer::from_slice(payload);
        let all = Looking { fields: self, depth: 0, wanted: (1 << self.0.len()) - 1, found: &mut found };
        if all.deserialize(&mut json).and_then(|()| json.end()).is_err() {
            found.fill(Found::Missing);
            if let Some(place) = self.0.iter().position(Vec::is_empty) {
                found[place] = Found::Text(String::from_utf8_lossy(payload));
            }
        }
        found
    }
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
        let payload = self.payload.find(payload);
        let before = match before {
            Some(before) => self.before.find(before),
            None => {
                self.before.0.iter().map(|path| if path.is_empty() { Found::Null } else { Found::Missing }).collect()
            }
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

/// Goes through JSON, and remembers what stands at the fields that are wanted; of a field that is there twice the last.
struct Looking<'f, 'de> {
    fields: &'f Fields,
    depth: usize,
    /// Fields whose path led here, as bits.
    wanted: u32,
    found: &'f mut AllFound<'de>,
}

impl<'de> Looking<'_, 'de> {
    /// Something stands here: what is below it is not there.
    fn put(&mut self, value: Found<'de>) {
        let mut wanted = self.wanted;
        while wanted != 0 {
            let place = wanted.trailing_zeros() as usize;
            let is_here = self.fields.0[place].len() == self.depth;
            self.found[place] = if is_here { value.clone() } else { Found::Missing };
            wanted &= wanted - 1;
        }
    }
}

impl<'de> DeserializeSeed<'de> for Looking<'_, 'de> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Looking<'_, 'de> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("JSON")
    }

    fn visit_bool<E>(mut self, truth: bool) -> Result<(), E> {
        self.put(Found::Truth(truth));
        Ok(())
    }

    #[allow(clippy::cast_precision_loss, reason = "JSON knows one kind of number")]
    fn visit_i64<E>(mut self, number: i64) -> Result<(), E> {
        self.put(Found::Number(number as f64));
        Ok(())
    }

    #[allow(clippy::cast_precision_loss, reason = "JSON knows one kind of number")]
    fn visit_u64<E>(mut self, number: u64) -> Result<(), E> {
        self.put(Found::Number(number as f64));
        Ok(())
    }

    fn visit_f64<E>(mut self, number: f64) -> Result<(), E> {
        self.put(Found::Number(number));
        Ok(())
    }

    fn visit_borrowed_str<E>(mut self, text: &'de str) -> Result<(), E> {
        self.put(Found::Text(Cow::Borrowed(text)));
        Ok(())
    }

    fn visit_str<E>(mut self, text: &str) -> Result<(), E> {
        self.put(Found::Text(Cow::Owned(text.to_owned())));
        Ok(())
    }

    fn visit_unit<E>(mut self) -> Result<(), E> {
        self.put(Found::Null);
        Ok(())
    }

    fn visit_seq<A: SeqAccess<'de>>(mut self, mut items: A) -> Result<(), A::Error> {
        self.put(Found::Compound);
        while items.next_element::<IgnoredAny>()?.is_some() {}
        Ok(())
    }

    fn visit_map<A: MapAccess<'de>>(mut self, mut entries: A) -> Result<(), A::Error> {
        self.put(Found::Compound);
        let Self { fields, depth, wanted, found } = self;
        while let Some(wanted) = entries.next_key_seed(Key { fields, depth, wanted })? {
            if wanted == 0 {
                entries.next_value::<IgnoredAny>()?;
            } else {
                entries.next_value_seed(Looking { fields, depth: depth + 1, wanted, found: &mut *found })?;
            }
        }
        Ok(())
    }
}

/// A field's name: which of the wanted lead on by it.
struct Key<'f> {
    fields: &'f Fields,
    depth: usize,
    wanted: u32,
}

impl<'de> DeserializeSeed<'de> for Key<'_> {
    type Value = u32;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<u32, D::Error> {
        deserializer.deserialize_str(self)
    }
}

impl Visitor<'_> for Key<'_> {
    type Value = u32;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("the name of a field")
    }

    fn visit_str<E>(self, name: &str) -> Result<u32, E> {
        let mut left = self.wanted;
        let mut led = 0;
        while left != 0 {
            let place = left.trailing_zeros();
            let is_it = self.fields.0[place as usize].get(self.depth).is_some_and(|level| **level == *name);
            led |= u32::from(is_it) << place;
            left &= left - 1;
        }
        Ok(led)
    }
}
