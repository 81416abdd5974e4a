//! Why an expression gives no value.

use std::fmt;

use cel::ExecutionError;

use super::PAYLOAD;

/// The longest text that a value may be, bytes.
pub(super) const TEXT: usize = 1_024;

/// Why an expression gave no value.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum NoValue {
    /// A field or name that is not there.
    Missing(String),
    /// What it gave can't be said by itself: a list, or an object, or nothing.
    NotScalar(&'static str),
    /// True or false is needed here.
    NotTruth,
    /// A number is needed here.
    NotNumber,
    /// The number has no end, or is none.
    NotFinite,
    /// The text is longer than a value may be.
    TextTooLong,
    /// The payload is longer than what is looked into.
    PayloadTooLong,
    /// The payload is longer than what is kept until other sources have said something.
    NotKept,
    /// The payload has a list that is too long to be gone through.
    ListTooLong,
    /// Something that can't be added, compared or looked into.
    Misfit(String),
}

impl fmt::Display for NoValue {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Missing(name) => write!(f, "there is no `{name}`"),
            Self::NotScalar(what) => {
                write!(f, "it gives {what}, and only a number, a text or true or false is a value")
            }
            Self::NotTruth => f.write_str("the condition is neither true nor false"),
            Self::NotNumber => f.write_str("it gives no number, which is needed here"),
            Self::NotFinite => f.write_str("it gives no finite number"),
            Self::TextTooLong => write!(f, "it gives a text of more than {TEXT} bytes"),
            Self::PayloadTooLong => write!(f, "the payload has more than {PAYLOAD} bytes"),
            Self::NotKept => f.write_str("the payload is too long to be kept for the other sources"),
            Self::ListTooLong => f.write_str("the payload has a list that is too long to be gone through"),
            Self::Misfit(words) => f.write_str(words),
        }
    }
}

impl From<ExecutionError> for NoValue {
    fn from(error: ExecutionError) -> Self {
        match error {
            ExecutionError::NoSuchKey(name) | ExecutionError::UndeclaredReference(name) => {
                Self::Missing(name.to_string())
            }
            ExecutionError::IndexOutOfBounds(_) => Self::Missing("level or place of this number".into()),
            ExecutionError::DivisionByZero(_) | ExecutionError::RemainderByZero(_) => Self::NotFinite,
            ExecutionError::Overflow(..) => Self::NotFinite,
            ExecutionError::UnsupportedBinaryOperator(operator, ..) => {
                let what = match operator {
                    "add" => "added",
                    "sub" => "taken from each other",
                    "mul" => "multiplied",
                    "div" | "rem" => "divided",
                    _ => "put together",
                };
                Self::Misfit(format!("two values can't be {what}: they are not both numbers"))
            }
            ExecutionError::ValuesNotComparable(..) => Self::Misfit("two values can't be compared".into()),
            ExecutionError::FunctionError { message, .. } => Self::Misfit(message),
            _ => Self::Misfit(
                "the payload has no such fields, or values of another kind than the expression needs".into(),
            ),
        }
    }
}
