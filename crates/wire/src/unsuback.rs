//! UNSUBACK (§3.11, 3.1.1 §3.11): the server's answer to UNSUBSCRIBE.

use bytes::{BufMut, BytesMut};
use bytestring::ByteString;

use crate::{
    DecodeError, EncodeError, PacketId, PacketType, ProtocolVersion, ReasonCode, UserProperty, property::properties,
    reader::Reader,
};

properties! {
    /// Properties of UNSUBACK (§3.11.2.1).
    UnsubAckProperties in "UNSUBACK" {
        /// Why, for a person.
        reason_string: Option<ByteString> = 0x1f,
        /// Free name-value pairs.
        user_properties: Vec<UserProperty> = 0x26,
    }
}

/// UNSUBACK, from the server.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct UnsubAck {
    /// The identifier of the UNSUBSCRIBE.
    pub packet_id: PacketId,
    /// Properties; empty in 3.1.1.
    pub properties: UnsubAckProperties,
    /// One for each filter, in its order; empty in 3.1.1.
    pub reasons: Vec<ReasonCode>,
}

impl UnsubAck {
    pub(crate) fn decode(reader: &mut Reader, version: ProtocolVersion) -> Result<Self, DecodeError> {
        let packet_id = reader.packet_id()?;
        if version == ProtocolVersion::V311 {
            return Ok(Self { packet_id, properties: UnsubAckProperties::default(), reasons: Vec::new() });
        }
        let properties = UnsubAckProperties::decode(reader)?;
        let mut reasons = Vec::new();
        while !reader.is_empty() {
            reasons.push(ReasonCode::decode(reader, PacketType::UnsubAck)?);
        }
        if reasons.is_empty() {
            return Err(DecodeError::Empty { packet: PacketType::UnsubAck });
        }
        Ok(Self { packet_id, properties, reasons })
    }

    pub(crate) fn encode(&self, version: ProtocolVersion, out: &mut BytesMut) -> Result<(), EncodeError> {
        out.put_u16(self.packet_id.get());
        if version == ProtocolVersion::V311 {
            if !self.reasons.is_empty() || !self.properties.is_empty() {
                return Err(EncodeError::NotInVersion { version, what: "reason codes or properties" });
            }
            return Ok(());
        }
        if self.reasons.is_empty() {
            return Err(EncodeError::Empty { packet: PacketType::UnsubAck, what: "reason code" });
        }
        self.properties.encode(out)?;
        for &reason in &self.reasons {
            if !reason.allowed_in(PacketType::UnsubAck) {
                return Err(EncodeError::ReasonCode { packet: PacketType::UnsubAck, reason });
            }
            out.put_u8(reason as u8);
        }
        Ok(())
    }
}
