//! In what a payload is not of the standard.

use super::{
    data_type::DataType,
    limits::{DEPTH, MESSAGES, METRICS, PAYLOAD},
};

/// In what a payload is not of the standard, or more than is looked into.
#[derive(Clone, Debug, PartialEq, Eq, Hash, thiserror::Error)]
pub enum Fault {
    /// It is too long; bytes.
    #[error("it has {0} B, and at most {PAYLOAD} are looked into")]
    TooLong(usize),
    /// It is nested too deeply.
    #[error("it is nested more than {DEPTH} levels deep")]
    TooDeep,
    /// It has too many metrics.
    #[error("it has more than {METRICS} metrics")]
    TooManyMetrics,
    /// It has too many parts.
    #[error("it has more than {MESSAGES} parts")]
    TooManyParts,
    /// It is not a protocol buffer of this form, and why.
    #[error("it is no protocol buffer: {0}")]
    NotReadable(String),
    /// A metric has a data type that the standard has not.
    #[error("there is no data type {0}")]
    DataType(u32),
    /// A metric has a value of another form than its data type.
    #[error("a value of type {wanted} does not stand in the field for {found}")]
    Value {
        /// Its data type.
        wanted: DataType,
        /// The field in which its value stands.
        found: &'static str,
    },
    /// A number does not fit its data type.
    #[error("{number} is no {wanted}")]
    Range {
        /// Its data type.
        wanted: DataType,
        /// The number as it stands in bytes.
        number: u64,
    },
    /// The bytes of an array are not as its data type says.
    #[error("the bytes are no {0}")]
    Array(DataType),
}
