//! Reading the field types of §1.5 off a packet's body, and writing them.

use bytes::{Buf, BufMut, Bytes, BytesMut};
use bytestring::ByteString;

use crate::{DecodeError, EncodeError, PacketId, PacketType, QoS, ReasonCode};

/// The largest variable byte integer (§1.5.5).
pub(crate) const VARIABLE_INT_MAX: u32 = 268_435_455;

/// A cursor over the body of one packet. What it hands out shares the packet's buffer.
pub(crate) struct Reader {
    bytes: Bytes,
}

impl Reader {
    pub(crate) fn new(bytes: Bytes) -> Self {
        Self { bytes }
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.bytes.is_empty()
    }

    pub(crate) fn remaining(&self) -> usize {
        self.bytes.len()
    }

    /// All that is left.
    pub(crate) fn rest(self) -> Bytes {
        self.bytes
    }

    pub(crate) fn u8(&mut self, what: &'static str) -> Result<u8, DecodeError> {
        self.bytes.try_get_u8().map_err(|_| DecodeError::Truncated { what })
    }

    pub(crate) fn u16(&mut self, what: &'static str) -> Result<u16, DecodeError> {
        self.bytes.try_get_u16().map_err(|_| DecodeError::Truncated { what })
    }

    pub(crate) fn u32(&mut self, what: &'static str) -> Result<u32, DecodeError> {
        self.bytes.try_get_u32().map_err(|_| DecodeError::Truncated { what })
    }

    pub(crate) fn packet_id(&mut self) -> Result<PacketId, DecodeError> {
        PacketId::new(self.u16("the packet identifier")?).ok_or(DecodeError::PacketIdZero)
    }

    /// Variable byte integer (§1.5.5), one to four bytes, seven bits each, low bits first.
    pub(crate) fn variable_int(&mut self, what: &'static str) -> Result<u32, DecodeError> {
        let mut value = 0;
        for shift in [0, 7, 14, 21] {
            let byte = self.u8(what)?;
            value |= u32::from(byte & 0x7f) << shift;
            if byte & 0x80 == 0 {
                // [MQTT-1.5.5-1]: the fewest bytes that can hold the value.
                if shift > 0 && byte == 0 {
                    return Err(DecodeError::VariableInt);
                }
                return Ok(value);
            }
        }
        Err(DecodeError::VariableInt)
    }

    /// Binary data behind a two-byte length (§1.5.6).
    pub(crate) fn binary(&mut self, what: &'static str) -> Result<Bytes, DecodeError> {
        let length = usize::from(self.u16(what)?);
        self.take(length, what)
    }

    /// A UTF-8 string behind a two-byte length (§1.5.4), without U+0000 ([MQTT-1.5.4-2]).
    pub(crate) fn string(&mut self, what: &'static str) -> Result<ByteString, DecodeError> {
        let text = ByteString::try_from(self.binary(what)?).map_err(|_| DecodeError::Utf8 { what })?;
        if text.as_bytes().contains(&0) {
            return Err(DecodeError::Utf8 { what });
        }
        Ok(text)
    }

    /// A reader over the next block, whose length stands before it as a variable byte integer.
    pub(crate) fn block(&mut self, what: &'static str) -> Result<Self, DecodeError> {
        let length = self.variable_int(what)? as usize;
        self.take(length, what).map(Self::new)
    }

    fn take(&mut self, length: usize, what: &'static str) -> Result<Bytes, DecodeError> {
        if self.bytes.len() < length {
            return Err(DecodeError::Truncated { what });
        }
        Ok(self.bytes.split_to(length))
    }
}

/// How many bytes a variable byte integer takes, 1 to 4.
pub(crate) fn variable_int_size(value: usize) -> usize {
    match value {
        0..=127 => 1,
        128..=16_383 => 2,
        16_384..=2_097_151 => 3,
        _ => 4,
    }
}

pub(crate) fn put_variable_int(out: &mut BytesMut, mut value: u32) -> Result<(), EncodeError> {
    if value > VARIABLE_INT_MAX {
        return Err(EncodeError::VariableInt { value });
    }
    loop {
        let low = (value & 0x7f) as u8;
        value >>= 7;
        if value == 0 {
            out.put_u8(low);
            return Ok(());
        }
        out.put_u8(low | 0x80);
    }
}

pub(crate) fn put_binary(out: &mut BytesMut, data: &[u8]) -> Result<(), EncodeError> {
    let length = u16::try_from(data.len()).map_err(|_| EncodeError::FieldTooLong { length: data.len() })?;
    out.put_u16(length);
    out.put_slice(data);
    Ok(())
}

pub(crate) fn put_string(out: &mut BytesMut, text: &str) -> Result<(), EncodeError> {
    if text.as_bytes().contains(&0) {
        return Err(EncodeError::Nul);
    }
    put_binary(out, text.as_bytes())
}

impl ReasonCode {
    /// Reads a code and checks that `packet` may carry it.
    pub(crate) fn decode(reader: &mut Reader, packet: PacketType) -> Result<Self, DecodeError> {
        let code = reader.u8("the reason code")?;
        Self::try_from(code)
            .ok()
            .filter(|reason| reason.allowed_in(packet))
            .ok_or(DecodeError::ReasonCode { packet, code })
    }
}

impl QoS {
    /// From the two bits of a packet; 3 is malformed ([MQTT-3.3.1-4]).
    pub(crate) fn from_bits(bits: u8) -> Result<Self, DecodeError> {
        Self::try_from(bits).map_err(|_| DecodeError::QoS { value: bits })
    }
}
