//! Expressions that give a value.

use std::{collections::HashMap, fmt};

use cel::{
    Value,
    common::{
        types::{CelBool, CelDouble, CelInt, CelList, CelMap, CelMapKey, CelNull, CelString},
        value::CowVal,
    },
    context::VariableResolver,
};
use serde::{Deserialize, Serialize};

use super::{
    Compiled, ExpressionError, Names,
    no_value::{NoValue, TEXT},
    payload_value::{PayloadValue, payload_of},
};
use crate::Time;

/// Names that every expression of a derived topic may use.
const KNOWN: [&str; 8] = ["topic", "levels", "level", "payload", "qos", "retained", "time", "before"];

/// Digits of a number that are told: more would tell how sums are rounded.
const DIGITS: usize = 12;

/// Something that can be said by itself.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Scalar {
    /// True or false.
    Truth(bool),
    /// A number, which is finite.
    Number(f64),
    /// A text.
    Text(String),
}

impl Scalar {
    /// The number, if it is one.
    pub fn number(&self) -> Option<f64> {
        if let Self::Number(number) = self { Some(*number) } else { None }
    }
}

/// A number with no more digits than mean something.
fn rounded(number: f64) -> f64 {
    format!("{number:.*e}", DIGITS - 1).parse().unwrap_or(number)
}

impl fmt::Display for Scalar {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Truth(truth) => truth.fmt(f),
            Self::Number(number) => number.fmt(f),
            Self::Text(text) => f.write_str(text),
        }
    }
}

/// What of a message an expression may name; made ready once for all expressions that look at it.
#[derive(Debug)]
pub struct MessageFields<'m> {
    topic: &'m str,
    payload: Result<PayloadValue<'m>, NoValue>,
    qos: u8,
    retained: bool,
}

impl<'m> MessageFields<'m> {
    /// Those of a message.
    pub fn new(topic: &'m str, payload: &'m [u8], qos: u8, retained: bool) -> Self {
        Self { topic, payload: payload_of(payload), qos, retained }
    }

    /// What the payload says, for [`Known::beside`].
    ///
    /// # Errors
    ///
    /// It is not looked into.
    pub fn payload(&self) -> Result<&PayloadValue<'m>, &NoValue> {
        self.payload.as_ref()
    }

    pub(super) fn resolve<'b>(&'b self, name: &str) -> Option<CowVal<'b, 'b>> {
        Some(match name {
            "topic" => CowVal::owned(CelString::from(self.topic)),
            "levels" => {
                let level = |level: &'b str| -> PayloadValue<'b> { Box::new(CelString::from(level)) };
                CowVal::owned(CelList::from(self.topic.split('/').map(level).collect::<Vec<_>>()))
            }
            "payload" => CowVal::Borrowed(self.payload.as_ref().ok()?.as_ref()),
            "qos" => CowVal::owned(CelInt::from(i64::from(self.qos))),
            "retained" => CowVal::owned(CelBool::from(self.retained)),
            _ => return None,
        })
    }
}

/// What an expression of a derived topic may name.
#[derive(Clone, Copy, Debug)]
pub struct Known<'a> {
    /// The message that has just come.
    pub message: &'a MessageFields<'a>,
    /// Named levels of its topic.
    pub level: &'a [(&'a str, &'a str)],
    /// What the newest messages of all sources say, by their names.
    pub beside: &'a [(&'a str, &'a PayloadValue<'a>)],
    /// When it came.
    pub time: Time,
    /// The value before.
    pub before: Option<&'a Scalar>,
}

impl VariableResolver for Known<'_> {
    fn resolve<'b>(&'b self, variable: &str) -> Option<CowVal<'b, 'b>> {
        match variable {
            "level" => {
                let level = |(name, value): &(&'b str, &'b str)| -> (CelMapKey<'b>, PayloadValue<'b>) {
                    ((*name).into(), Box::new(CelString::from(*value)))
                };
                Some(CowVal::owned(CelMap::from(self.level.iter().map(level).collect::<HashMap<_, _>>())))
            }
            #[allow(clippy::cast_precision_loss, reason = "microseconds since 1970 have 16 digits")]
            "time" => Some(CowVal::owned(CelDouble::from(self.time.as_micros() as f64 / 1e6))),
            "before" => Some(match self.before {
                None => CowVal::owned(CelNull),
                Some(Scalar::Truth(truth)) => CowVal::owned(CelBool::from(*truth)),
                Some(Scalar::Number(number)) => CowVal::owned(CelDouble::from(*number)),
                Some(Scalar::Text(text)) => CowVal::owned(CelString::from(text.as_str())),
            }),
            _ => match self.beside.iter().find(|(name, _)| *name == variable) {
                Some((_, said)) => Some(CowVal::Borrowed(said.as_ref())),
                None => self.message.resolve(variable),
            },
        }
    }
}

/// An expression of a derived topic.
#[derive(Clone, Debug, PartialEq)]
pub struct ValueExpression(Compiled);

impl fmt::Display for ValueExpression {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0.text)
    }
}

impl ValueExpression {
    /// Reads an expression; sources have these names.
    ///
    /// # Errors
    ///
    /// It can't be read, names what there is not, or could cost too much.
    pub fn parse(text: &str, sources: &[&str]) -> Result<Self, ExpressionError> {
        let known: Vec<&str> = KNOWN.iter().chain(sources).copied().collect();
        let words = match sources {
            [] => {
                "write payload, payload.FIELD, levels[N], level.NAME, topic, time, before, qos or retained".to_owned()
            }
            names => format!("write {}, levels[N], level.NAME, time or before", names.join(", ")),
        };
        Ok(Self(Compiled::parse(text, &Names { known: &known, remedy: &words })?))
    }

    /// Whether a source may have this name.
    pub fn may_name(name: &str) -> bool {
        let is_word = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_';
        let begins = name.starts_with(|c: char| c.is_ascii_lowercase());
        begins
            && name.chars().all(is_word)
            && !KNOWN.contains(&name)
            && !["true", "false", "null", "in"].contains(&name)
    }

    fn execute(&self, known: &Known<'_>) -> Result<Value, NoValue> {
        // With several sources nobody names the payload by itself.
        if known.beside.is_empty() {
            known.message.payload().map_err(Clone::clone)?;
        }
        Ok(self.0.value(known)?)
    }

    /// The value that it gives.
    ///
    /// # Errors
    ///
    /// It gives none.
    pub fn evaluate(&self, known: &Known<'_>) -> Result<Scalar, NoValue> {
        #[allow(clippy::cast_precision_loss, reason = "as a number of JSON has no more digits")]
        match self.execute(known)? {
            Value::Bool(truth) => Ok(Scalar::Truth(truth)),
            Value::Float(number) if !number.is_finite() => Err(NoValue::NotFinite),
            Value::Float(number) => Ok(Scalar::Number(rounded(number))),
            Value::Int(number) => Ok(Scalar::Number(number as f64)),
            Value::UInt(number) => Ok(Scalar::Number(number as f64)),
            Value::String(text) if text.len() > TEXT => Err(NoValue::TextTooLong),
            Value::String(text) => Ok(Scalar::Text(text.to_string())),
            Value::List(_) => Err(NoValue::NotScalar("a list")),
            Value::Map(_) => Err(NoValue::NotScalar("an object")),
            Value::Null => Err(NoValue::NotScalar("null")),
            _ => Err(NoValue::NotScalar("something else")),
        }
    }

    /// Whether it is true.
    ///
    /// # Errors
    ///
    /// It is neither true nor false, or can't be evaluated, as when a field is not there.
    pub fn is_true(&self, known: &Known<'_>) -> Result<bool, NoValue> {
        if let Value::Bool(truth) = self.execute(known)? { Ok(truth) } else { Err(NoValue::NotTruth) }
    }
}

/// A number times `factor` and `offset` more, with no more digits than mean something.
pub(crate) fn scaled(number: f64, (factor, offset): (f64, f64)) -> Result<f64, NoValue> {
    let scaled = rounded(number * factor + offset);
    if scaled.is_finite() { Ok(scaled) } else { Err(NoValue::NotFinite) }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn evaluate(text: &str, payload: &str) -> Result<Scalar, NoValue> {
        let message = MessageFields::new("harrowmere/gorge/kettle-weir/stage/level", payload.as_bytes(), 1, false);
        let (upper, lower) = (payload_of(br#"{"m": 2.5}"#).unwrap(), payload_of(b"1.25").unwrap());
        let beside = [("upper", &upper), ("lower", &lower)];
        let known = Known {
            message: &message,
            level: &[("station", "kettle-weir")],
            beside: &beside,
            time: Time::from_micros(1_700_000_000_500_000),
            before: Some(&Scalar::Number(7.0)),
        };
        ValueExpression::parse(text, &["upper", "lower"]).unwrap().evaluate(&known)
    }

    #[test]
    fn values_come_of_fields_levels_time_other_sources_and_the_value_before() {
        let payload = r#"{"m": 1.83, "n": 2, "ok": true, "name": "kettle", "list": [1, 2]}"#;
        for (text, value) in [
            ("payload.m", Scalar::Number(1.83)),
            ("payload.m * 100", Scalar::Number(183.0)),
            ("100 * payload.m - 3 / 2", Scalar::Number(181.5)),
            ("-payload.n + 1", Scalar::Number(-1.0)),
            ("payload.list[1] + 1", Scalar::Number(3.0)),
            ("upper.m - lower", Scalar::Number(1.25)),
            ("before + 1", Scalar::Number(8.0)),
            ("time - 1700000000", Scalar::Number(0.5)),
            ("level.station + '-' + levels[1]", Scalar::Text("kettle-weir-gorge".into())),
            ("payload.ok && payload.n > 1", Scalar::Truth(true)),
            ("payload.m > 1 ? 'high' : 'low'", Scalar::Text("high".into())),
            ("size(payload.list)", Scalar::Number(2.0)),
            ("size(payload.list) + 1", Scalar::Number(3.0)),
            ("qos", Scalar::Number(1.0)),
            ("payload.list.map(x, x + 1)[0]", Scalar::Number(2.0)),
            ("[1, 2].filter(x, x + 1 > 2).size()", Scalar::Number(1.0)),
        ] {
            assert_eq!(evaluate(text, payload), Ok(value), "{text}");
        }
        assert_eq!(evaluate("payload * 10", "0.1"), Ok(Scalar::Number(1.0)), "a bare number");
        assert_eq!(evaluate("payload", "online"), Ok(Scalar::Text("online".into())));
    }

    #[test]
    fn why_there_is_no_value_is_told_in_plain_words() {
        for (text, payload, words) in [
            ("payload.flow", r#"{"m": 1}"#, "there is no `flow`"),
            ("payload.m", "[1]", "no such fields"),
            ("payload.m", "hello", "no such fields"),
            ("payload.list", r#"{"list": [1]}"#, "it gives a list"),
            ("payload", "{}", "it gives an object"),
            ("payload.m * 2", r#"{"m": "high"}"#, "multiplied"),
            ("payload / 0", "1", "no finite number"),
            ("levels[9]", "1", "no `level or place"),
            ("payload", "null", "it gives null"),
        ] {
            let told = evaluate(text, payload).unwrap_err().to_string();
            assert!(told.contains(words), "{text}: {told}");
        }
        let long = format!("\"{}\"", "x".repeat(2_000));
        assert_eq!(evaluate("payload", &long), Err(NoValue::TextTooLong));
    }

    #[test]
    fn names_are_those_of_the_sources_and_no_others() {
        let error = ValueExpression::parse("upper.m - lower.m", &["upper"]).unwrap_err();
        assert!(error.at == 10 && error.message.contains("write upper, levels[N]"), "{error}");
        assert!(ValueExpression::may_name("upper_2"));
        for bad in ["payload", "Upper", "2nd", "a-b", "", "in"] {
            assert!(!ValueExpression::may_name(bad), "{bad}");
        }
    }
}
