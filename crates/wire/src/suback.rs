//! SUBACK (§3.9, 3.1.1 §3.9): the server's answer to SUBSCRIBE.

use bytes::{BufMut, BytesMut};
use bytestring::ByteString;

use crate::{
    DecodeError, EncodeError, PacketId, PacketType, ProtocolVersion, ReasonCode, UserProperty, property::properties,
    reader::Reader,
};

properties! {
    /// Properties of SUBACK (§3.9.2.1).
    SubAckProperties in "SUBACK" {
        /// Why, for a person.
        reason_string: Option<ByteString> = 0x1f,
        /// Free name-value pairs.
        user_properties: Vec<UserProperty> = 0x26,
    }
}

/// SUBACK, from the server.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SubAck {
    /// The identifier of the SUBSCRIBE.
    pub packet_id: PacketId,
    /// Properties; empty in 3.1.1.
    pub properties: SubAckProperties,
    /// The granted QoS or the refusal, one for each filter, in its order. In 3.1.1 every refusal is `Unspecified`.
    pub reasons: Vec<ReasonCode>,
}

/// 3.1.1 §3.9.3: 0, 1, 2 and 0x80.
fn in_311(reason: ReasonCode) -> bool {
    matches!(reason, ReasonCode::Success | ReasonCode::GrantedQoS1 | ReasonCode::GrantedQoS2 | ReasonCode::Unspecified)
}

impl SubAck {
    pub(crate) fn decode(reader: &mut Reader, version: ProtocolVersion) -> Result<Self, DecodeError> {
        let packet_id = reader.packet_id()?;
        let properties = match version {
            ProtocolVersion::V311 => SubAckProperties::default(),
            ProtocolVersion::V5 => SubAckProperties::decode(reader)?,
        };
        let mut reasons = Vec::new();
        while !reader.is_empty() {
            let reason = ReasonCode::decode(reader, PacketType::SubAck)?;
            if version == ProtocolVersion::V311 && !in_311(reason) {
                return Err(DecodeError::ReasonCode { packet: PacketType::SubAck, code: reason as u8 });
            }
            reasons.push(reason);
        }
        if reasons.is_empty() {
            return Err(DecodeError::Empty { packet: PacketType::SubAck });
        }
        Ok(Self { packet_id, properties, reasons })
    }

    pub(crate) fn encode(&self, version: ProtocolVersion, out: &mut BytesMut) -> Result<(), EncodeError> {
        if self.reasons.is_empty() {
            return Err(EncodeError::Empty { packet: PacketType::SubAck, what: "reason code" });
        }
        out.put_u16(self.packet_id.get());
        match version {
            ProtocolVersion::V5 => self.properties.encode(out)?,
            ProtocolVersion::V311 if self.properties.is_empty() => {}
            ProtocolVersion::V311 => return Err(EncodeError::NotInVersion { version, what: "properties" }),
        }
        for &reason in &self.reasons {
            if !reason.allowed_in(PacketType::SubAck) || (version == ProtocolVersion::V311 && !in_311(reason)) {
                return Err(EncodeError::ReasonCode { packet: PacketType::SubAck, reason });
            }
            out.put_u8(reason as u8);
        }
        Ok(())
    }
}
