//! The data types of the standard.

use strum::{Display, EnumString, FromRepr, IntoStaticStr, VariantArray};

/// The data types of the standard.
#[derive(
    Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, FromRepr, Display, EnumString, IntoStaticStr, VariantArray,
)]
#[repr(u32)]
#[allow(missing_docs, reason = "they are named after what they are")]
pub enum DataType {
    Int8 = 1,
    Int16,
    Int32,
    Int64,
    UInt8,
    UInt16,
    UInt32,
    UInt64,
    Float,
    Double,
    Boolean,
    String,
    /// Milliseconds since 1970.
    DateTime,
    Text,
    #[strum(serialize = "UUID")]
    Uuid,
    DataSet,
    Bytes,
    File,
    Template,
    PropertySet,
    PropertySetList,
    Int8Array,
    Int16Array,
    Int32Array,
    Int64Array,
    UInt8Array,
    UInt16Array,
    UInt32Array,
    UInt64Array,
    FloatArray,
    DoubleArray,
    BooleanArray,
    StringArray,
    DateTimeArray,
}

impl DataType {
    /// The data type of this number, if there is one.
    pub fn of(number: u32) -> Option<Self> {
        Self::from_repr(number)
    }

    /// How many bits a signed number has.
    pub(super) fn signed_bits(self) -> Option<u32> {
        Some(match self {
            Self::Int8 => 8,
            Self::Int16 => 16,
            Self::Int32 => 32,
            Self::Int64 => 64,
            _ => return None,
        })
    }

    /// How many bits a number without sign has.
    pub(super) fn unsigned_bits(self) -> Option<u32> {
        Some(match self {
            Self::UInt8 => 8,
            Self::UInt16 => 16,
            Self::UInt32 => 32,
            Self::UInt64 => 64,
            _ => return None,
        })
    }
}
