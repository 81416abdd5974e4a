//! Values as they stand in bytes, by their data types.

use super::{
    array,
    data_type::DataType,
    fault::Fault,
    frame::{DataSet, MetricValue, ParameterValue, Plain, PropertyContent, Template},
    value::Value,
};

impl DataType {
    /// A whole number as it stands in bytes: signed ones as two's complement of their width, or extended to the width of the
    /// field, as some senders have it.
    fn whole(self, number: u64, field_bits: u32) -> Result<Value, Fault> {
        let out_of_range = || Fault::Range { wanted: self, number };
        if let Some(bits) = self.signed_bits() {
            // What is extended is the same at the width of the field.
            let field = (number << (64 - field_bits)).cast_signed() >> (64 - field_bits);
            let narrow = (number << (64 - bits)).cast_signed() >> (64 - bits);
            let fits = bits == 64 || number >> bits == 0 || field == narrow;
            return if fits { Ok(Value::Int(narrow)) } else { Err(out_of_range()) };
        }
        match self {
            Self::DateTime => Ok(Value::DateTime(number)),
            Self::Boolean if number <= 1 => Ok(Value::Boolean(number == 1)),
            _ => {
                let fits = self.unsigned_bits().is_some_and(|bits| bits == 64 || number >> bits == 0);
                if fits { Ok(Value::UInt(number)) } else { Err(out_of_range()) }
            }
        }
    }
}

/// A value as it stands in one of the fields for it.
pub(super) enum Raw<'a> {
    Int(u32),
    Long(u64),
    Float(f32),
    Double(f64),
    Boolean(bool),
    String(&'a str),
    Bytes(&'a [u8]),
    DataSet(&'a DataSet),
    Template(&'a Template),
    /// Properties of properties.
    Other,
}

impl Raw<'_> {
    fn field(&self) -> &'static str {
        match self {
            Self::Int(_) => "numbers of 32 bits",
            Self::Long(_) => "numbers of 64 bits",
            Self::Float(_) => "floats",
            Self::Double(_) => "doubles",
            Self::Boolean(_) => "booleans",
            Self::String(_) => "text",
            Self::Bytes(_) => "bytes",
            Self::DataSet(_) => "tables",
            Self::Template(_) => "templates",
            Self::Other => "properties",
        }
    }

    /// The value by its type; without one, as it stands.
    pub(super) fn value(&self, data_type: Option<DataType>) -> Result<Value, Fault> {
        use DataType as T;
        let Some(wanted) = data_type else {
            return Ok(match self {
                Self::Int(number) => Value::UInt((*number).into()),
                Self::Long(number) => Value::UInt(*number),
                Self::Float(number) => Value::Float(*number),
                Self::Double(number) => Value::Double(*number),
                Self::Boolean(truth) => Value::Boolean(*truth),
                Self::String(text) => Value::Text((*text).into()),
                Self::Bytes(bytes) => Value::Bytes(bytes.to_vec()),
                Self::DataSet(table) => Value::DataSet((*table).clone()),
                Self::Template(template) => Value::Template((*template).clone()),
                Self::Other => Value::Null,
            });
        };
        match (wanted, self) {
            (T::Boolean, Self::Boolean(truth)) => Ok(Value::Boolean(*truth)),
            (T::Float, Self::Float(number)) => Ok(Value::Float(*number)),
            (T::Double, Self::Double(number)) => Ok(Value::Double(*number)),
            (T::Double, Self::Float(number)) => Ok(Value::Double((*number).into())),
            (T::String | T::Text | T::Uuid, Self::String(text)) => Ok(Value::Text((*text).into())),
            (T::Bytes | T::File, Self::Bytes(bytes)) => Ok(Value::Bytes(bytes.to_vec())),
            (T::DataSet, Self::DataSet(table)) => Ok(Value::DataSet((*table).clone())),
            (T::Template, Self::Template(template)) => Ok(Value::Template((*template).clone())),
            (_, Self::Bytes(bytes)) if wanted >= T::Int8Array => array::read(wanted, bytes),
            (_, Self::Int(number)) if wanted <= T::UInt64 || matches!(wanted, T::Boolean | T::DateTime) => {
                wanted.whole((*number).into(), 32)
            }
            (_, Self::Long(number)) if wanted <= T::UInt64 || matches!(wanted, T::Boolean | T::DateTime) => {
                wanted.whole(*number, 64)
            }
            _ => Err(Fault::Value { wanted, found: self.field() }),
        }
    }
}

/// The value of a field that has one of several forms: those that all of them have, and those of its own.
macro_rules! raw {
    ($of:ident { $($own:pat => $raw:expr),* }) => {
        match $of {
            Self::Int(number) => Raw::Int(*number),
            Self::Long(number) => Raw::Long(*number),
            Self::Float(number) => Raw::Float(*number),
            Self::Double(number) => Raw::Double(*number),
            Self::Boolean(truth) => Raw::Boolean(*truth),
            Self::String(text) => Raw::String(text),
            $($own => $raw),*
        }
    };
}

impl MetricValue {
    /// The value by its type; without one, as it stands.
    ///
    /// # Errors
    ///
    /// It is of another form than its type.
    pub fn value(&self, data_type: Option<DataType>) -> Result<Value, Fault> {
        let raw = raw!(self {
            Self::Bytes(bytes) => Raw::Bytes(bytes),
            Self::DataSet(table) => Raw::DataSet(table),
            Self::Template(template) => Raw::Template(template)
        });
        raw.value(data_type)
    }

    /// A value as it stands in bytes, of this type; `None` if it is not of this type, or none that a command carries.
    pub fn of(value: &Value, data_type: DataType) -> Option<Self> {
        use DataType as T;
        let in_bits = |bits: u32, number: i64| {
            let least = if bits == 64 { i64::MIN } else { -(1_i64 << (bits - 1)) };
            let most = if bits == 64 { i64::MAX } else { (1_i64 << (bits - 1)) - 1 };
            (least..=most).contains(&number)
        };
        Some(match (data_type, value) {
            (T::Int8 | T::Int16 | T::Int32, Value::Int(number)) if in_bits(data_type.signed_bits()?, *number) => {
                // Two's complement of the type's own width.
                let mask = u64::MAX >> (64 - data_type.signed_bits()?);
                Self::Int(u32::try_from(number.cast_unsigned() & mask).ok()?)
            }
            (T::Int64, Value::Int(number)) => Self::Long(number.cast_unsigned()),
            (T::UInt8 | T::UInt16 | T::UInt32, Value::UInt(number)) => {
                let fits = *number >> data_type.unsigned_bits()? == 0;
                Self::Int(u32::try_from(*number).ok().filter(|_| fits)?)
            }
            (T::UInt64, Value::UInt(number)) => Self::Long(*number),
            (T::DateTime, Value::DateTime(number)) => Self::Long(*number),
            (T::Float, Value::Float(number)) => Self::Float(*number),
            (T::Double, Value::Double(number)) => Self::Double(*number),
            (T::Boolean, Value::Boolean(truth)) => Self::Boolean(*truth),
            (T::String | T::Text | T::Uuid, Value::Text(text)) => Self::String(text.clone()),
            (T::Bytes | T::File, Value::Bytes(bytes)) => Self::Bytes(bytes.clone()),
            _ => return None,
        })
    }
}

impl PropertyContent {
    /// The value by its type; properties of properties have none.
    pub(super) fn value(&self, data_type: Option<DataType>) -> Result<Value, Fault> {
        raw!(self { Self::Set(_) | Self::Sets(_) => Raw::Other }).value(data_type)
    }
}

impl Plain {
    /// The value by its type.
    pub(super) fn value(&self, data_type: Option<DataType>) -> Result<Value, Fault> {
        raw!(self {}).value(data_type)
    }
}

impl ParameterValue {
    /// The value by its type.
    pub(super) fn value(&self, data_type: Option<DataType>) -> Result<Value, Fault> {
        raw!(self {}).value(data_type)
    }
}
