//! How long, how deep and how wide a payload may be, found out before anything is made of it.

use bytes::Buf;
use prost::encoding::{DecodeContext, WireType, decode_key, decode_varint, skip_field};

use super::{
    fault::Fault,
    limits::{DEPTH, MESSAGES, METRICS, PAYLOAD},
};

/// What stands within what.
#[derive(Clone, Copy, PartialEq)]
enum Part {
    Payload,
    Metric,
    PropertySet,
    PropertyValue,
    PropertySetList,
    DataSet,
    Row,
    Template,
    /// Nothing stands within it.
    Plain,
}

impl Part {
    /// What a field is that has a length; `None` if it is text or bytes.
    fn within(self, field: u32) -> Option<Self> {
        Some(match (self, field) {
            (Self::Payload | Self::Template, 2) => Self::Metric,
            (Self::Template, 3) | (Self::Metric, 8) | (Self::Row, 1) => Self::Plain,
            (Self::Metric, 9) | (Self::PropertyValue, 9) | (Self::PropertySetList, 1) => Self::PropertySet,
            (Self::Metric, 17) => Self::DataSet,
            (Self::Metric, 18) => Self::Template,
            (Self::PropertySet, 2) => Self::PropertyValue,
            (Self::PropertyValue, 10) => Self::PropertySetList,
            (Self::DataSet, 4) => Self::Row,
            _ => return None,
        })
    }

    /// Lists of text and numbers take room for each of theirs, too.
    fn is_listed(self, field: u32) -> bool {
        matches!((self, field), (Self::PropertySet, 1) | (Self::DataSet, 2 | 3))
    }
}

/// Looks through a payload once, and makes nothing of it.
pub(super) fn check(payload: &[u8]) -> Result<(), Fault> {
    if payload.len() > PAYLOAD {
        return Err(Fault::TooLong(payload.len()));
    }
    let mut left = (METRICS, MESSAGES);
    walk(payload, Part::Payload, DEPTH, &mut left)
}

fn walk(mut bytes: &[u8], part: Part, depth: usize, left: &mut (usize, usize)) -> Result<(), Fault> {
    let not_readable = |error: prost::DecodeError| Fault::NotReadable(error.to_string());
    while bytes.has_remaining() {
        let (field, form) = decode_key(&mut bytes).map_err(not_readable)?;
        let within = part.within(field).filter(|_| form == WireType::LengthDelimited);
        if part.is_listed(field) {
            // Numbers may stand packed, a byte each at least.
            let packed = if form == WireType::LengthDelimited && field == 3 { bytes.len().min(1 << 14) } else { 1 };
            left.1 = left.1.checked_sub(packed).ok_or(Fault::TooManyParts)?;
        }
        let Some(within) = within else {
            skip_field(form, field, &mut bytes, DecodeContext::default()).map_err(not_readable)?;
            continue;
        };
        left.1 = left.1.checked_sub(1).ok_or(Fault::TooManyParts)?;
        if part == Part::Payload {
            left.0 = left.0.checked_sub(1).ok_or(Fault::TooManyMetrics)?;
        }
        let length = decode_varint(&mut bytes).map_err(not_readable)?;
        let length = usize::try_from(length).ok().filter(|length| *length <= bytes.len());
        let length = length.ok_or_else(|| Fault::NotReadable("it ends within a field".into()))?;
        let (inner, rest) = bytes.split_at(length);
        walk(inner, within, depth.checked_sub(1).ok_or(Fault::TooDeep)?, left)?;
        bytes = rest;
    }
    Ok(())
}
