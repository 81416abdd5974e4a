//! Arrays: packed little-endian in bytes; booleans as a count of four bytes and bits from the highest; strings each ended by
//! a zero byte.

use super::{data_type::DataType, fault::Fault, value::Value};

/// Reads an array.
pub(super) fn read(wanted: DataType, bytes: &[u8]) -> Result<Value, Fault> {
    use DataType as T;
    let fault = || Fault::Array(wanted);
    Ok(Value::Array(match wanted {
        T::Int8Array => each(bytes, |one| i8::from_le_bytes(one).into()).ok_or_else(fault)?.map(Value::Int).collect(),
        T::Int16Array => each(bytes, |one| i16::from_le_bytes(one).into()).ok_or_else(fault)?.map(Value::Int).collect(),
        T::Int32Array => each(bytes, |one| i32::from_le_bytes(one).into()).ok_or_else(fault)?.map(Value::Int).collect(),
        T::Int64Array => each(bytes, i64::from_le_bytes).ok_or_else(fault)?.map(Value::Int).collect(),
        T::UInt8Array => each(bytes, |one| u8::from_le_bytes(one).into()).ok_or_else(fault)?.map(Value::UInt).collect(),
        T::UInt16Array => {
            each(bytes, |one| u16::from_le_bytes(one).into()).ok_or_else(fault)?.map(Value::UInt).collect()
        }
        T::UInt32Array => {
            each(bytes, |one| u32::from_le_bytes(one).into()).ok_or_else(fault)?.map(Value::UInt).collect()
        }
        T::UInt64Array => each(bytes, u64::from_le_bytes).ok_or_else(fault)?.map(Value::UInt).collect(),
        T::FloatArray => each(bytes, f32::from_le_bytes).ok_or_else(fault)?.map(Value::Float).collect(),
        T::DoubleArray => each(bytes, f64::from_le_bytes).ok_or_else(fault)?.map(Value::Double).collect(),
        T::DateTimeArray => each(bytes, u64::from_le_bytes).ok_or_else(fault)?.map(Value::DateTime).collect(),
        T::BooleanArray => booleans(bytes).ok_or_else(fault)?,
        T::StringArray => strings(bytes).ok_or_else(fault)?,
        _ => return Err(fault()),
    }))
}

/// Pieces of one width, if there is nothing beside them.
fn each<const WIDTH: usize, T>(bytes: &[u8], of: impl Fn([u8; WIDTH]) -> T) -> Option<impl Iterator<Item = T>> {
    let (pieces, rest) = bytes.as_chunks::<WIDTH>();
    rest.is_empty().then(|| pieces.iter().map(move |piece| of(*piece)))
}

fn booleans(bytes: &[u8]) -> Option<Vec<Value>> {
    let (count, bits) = bytes.split_first_chunk::<4>()?;
    let count = usize::try_from(u32::from_le_bytes(*count)).ok()?;
    if count.div_ceil(8) != bits.len() {
        return None;
    }
    let bit = |place: usize| bits[place / 8] & (0x80 >> (place % 8)) != 0;
    Some((0..count).map(|place| Value::Boolean(bit(place))).collect())
}

fn strings(bytes: &[u8]) -> Option<Vec<Value>> {
    let Some((end, texts)) = bytes.split_last() else { return Some(Vec::new()) };
    if *end != 0 {
        return None;
    }
    let text = |text: &[u8]| std::str::from_utf8(text).ok().map(|text| Value::Text(text.into()));
    texts.split(|byte| *byte == 0).map(text).collect()
}
