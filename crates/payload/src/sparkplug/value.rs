//! Values.

use super::frame::{DataSet, Template};

/// A value.
#[derive(Clone, Debug, PartialEq)]
pub enum Value {
    /// There is none.
    Null,
    /// A signed number.
    Int(i64),
    /// A number.
    UInt(u64),
    /// Single precision.
    Float(f32),
    /// Double precision.
    Double(f64),
    /// True or false.
    Boolean(bool),
    /// Text.
    Text(String),
    /// Milliseconds since 1970.
    DateTime(u64),
    /// Bytes.
    Bytes(Vec<u8>),
    /// A table.
    DataSet(DataSet),
    /// A model, or an instance of one.
    Template(Template),
    /// Several of one type.
    Array(Vec<Value>),
}
